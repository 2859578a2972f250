import { api } from './api';
import type { Stage } from './types';
import type { Work } from './work.svelte';

export type Side = 'low_hz' | 'high_hz';
const TRIES = 60;
const PAUSE_MS = 500;

/** What the selected stage listens to, and the threshold that goes with it. */
export class Keying {
  private draft = $state.raw<Stage['key'] | null>(null);
  /** A gate that hears something else: the threshold at which it opens where it did. */
  private offer = $state.raw<{ stage: string; db: number } | null>(null);

  constructor(private work: Work) {}

  get key(): Stage['key'] | undefined {
    return this.draft ?? this.work.stage?.key;
  }

  get outside(): boolean {
    return this.key !== undefined && this.key.source !== 'own';
  }

  /** The threshold that is offered for the selected stage. */
  get offered(): number | null {
    return this.offer && this.offer.stage === this.work.stage?.id ? this.offer.db : null;
  }

  async listenTo(source: string): Promise<void> {
    const { stage, stripId } = this.work;
    if (!stage) return;
    const tap = source === `strip:${stripId}` ? 'in' : stage.key.tap;
    await this.set({ ...stage.key, source, tap });
  }

  /** Before the other strip's chain, or behind it. */
  turn(): void {
    const { key } = this;
    if (key) void this.set({ ...key, tap: key.tap === 'in' ? 'out' : 'in' });
  }

  filter(side: Side, value: number | null): void {
    const { key } = this;
    if (key) this.draft = { ...key, [side]: value };
  }

  async drop(): Promise<void> {
    const { work, draft } = this;
    const { stage, state } = work;
    if (!stage || !draft || !state) return;
    this.offer = null;
    const gate = stage.kind === 'gate';
    const before = gate ? await api.openings(state.id, work.stripId, stage.id) : null;
    await work.edit({ type: 'set_stage', stage: stage.id, key: draft });
    this.draft = null;
    if (before?.frames.length) void this.match(stage.id, before.frames);
  }

  accept(): void {
    if (this.offer) void this.work.set('threshold_db', this.offer.db);
    this.offer = null;
  }

  private async set(key: Stage['key']): Promise<void> {
    const { work } = this;
    if (work.stage) await work.edit({ type: 'set_stage', stage: work.stage.id, key });
  }

  private async match(id: string, frames: number[]): Promise<void> {
    const { work } = this;
    for (let tries = 0; tries < TRIES && work.state && work.stageId === id; tries++) {
      await new Promise((done) => setTimeout(done, PAUSE_MS));
      const answer = await api.threshold(work.state.id, work.stripId, id, frames).catch(() => null);
      if (answer?.done !== 1) continue;
      const db = answer.threshold_db;
      if (db !== null && db !== work.stage?.params.threshold_db) this.offer = { stage: id, db };
      return;
    }
  }
}
