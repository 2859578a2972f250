import { api, Refusal } from './api';
import { place } from './compare.svelte';
import { figure } from './figures';
import type { Live } from './live.svelte';
import { newest } from './newest';
import type { Comparison } from './types';
import type { Work } from './work.svelte';

/** Hears an earlier revision instead of what stands, both at the level of the quieter one. */
export class Earlier {
  /** What is heard: a revision, or what stands. */
  heard = $state<number | null>(null);
  /** What it is compared with, once one was heard. */
  private of = $state<number | null>(null);
  private answer = $state.raw<Comparison | null>(null);
  private problem = $state('');
  private unsubscribe: () => void;

  constructor(
    private work: Work,
    private live: Live,
  ) {
    this.unsubscribe = live.onEvent((event) => {
      if (!('session' in event) || event.session !== work.state?.id || this.of === null) return;
      const through = event.type === 'analysed' && event.done >= event.frames;
      if (event.type === 'compared' || through) this.load();
    });
  }

  /** Hears a revision, or with null what stands. */
  hear(revision: number | null): void {
    this.heard = revision;
    if (revision !== null && revision !== this.of) {
      this.of = revision;
      this.answer = null;
      this.load();
    }
    this.live.send({ type: 'hear_revision', revision });
    this.level();
  }

  /** Something was changed: that is heard now. */
  changed(): void {
    this.heard = this.of = this.answer = null;
    this.level();
  }

  close(): void {
    if (this.heard !== null) this.live.send({ type: 'hear_revision', revision: null });
    this.changed();
    this.unsubscribe();
  }

  /** What the same loudness does, in words. */
  get words(): string {
    if (this.of === null) return '';
    if (this.problem) return this.problem;
    const [now, then] = [this.gain('stands'), this.gain('tried')];
    const silent = this.answer?.done === 1 && (now === null || then === null);
    if (silent) return 'one of them is silent here';
    if (now === null || then === null) return 'not at the same loudness yet: being measured';
    if (Math.abs(now - then) < 0.05) return 'both are equally loud by themselves';
    const louder = now < then ? 'what stands is' : 'the revision is';
    return `at the same loudness: ${louder} ${figure(Math.abs(now - then), 1)} dB down`;
  }

  private gain(slot: string): number | null {
    return this.answer?.rows.find((row) => row.slot === slot)?.plays_db ?? null;
  }

  private level(): void {
    const both = [this.gain('stands'), this.gain('tried')];
    const mine = both[this.heard === null ? 0 : 1];
    const known = both[0] !== null && both[1] !== null && this.of !== null;
    this.live.beside(known && mine != null ? 10 ** (mine / 20) : 1, 0);
  }

  /** What is heard is measured where all of it ends, or at the strip that is heard alone. */
  private load = newest(async () => {
    const { work, live, of } = this;
    const strip = work.alone ? work.stripId : work.model?.strips.find((s) => s.kind === 'main')?.id;
    if (!work.state || !strip || of === null || work.frames === 0) return;
    const [begin, end] = live.transport.loop ?? [0, work.frames];
    const extent = place('strip', strip);
    const wish = { extent, against: 'A' as const, at: 'chain', in_mix: false, begin, end };
    try {
      const answer = await api.compare(work.state.id, { ...wish, revision: of });
      if (this.of !== of) return;
      this.answer = answer;
      this.problem = answer.rows.find((row) => row.problem)?.problem ?? '';
      this.level();
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      this.problem = error.message;
    }
  }, 300);
}
