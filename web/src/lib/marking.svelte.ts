import { api, Refusal } from './api';
import { figure, hertz } from './figures';
import type { Live } from './live.svelte';
import type { Edit } from './types';
import type { Work } from './work.svelte';

export type Fate = 'keep' | 'refuse';
export const FATES: Fate[] = ['keep', 'refuse'];

/** Hits that a gate is to keep or to refuse; the core finds what tells them apart. */
export class Marking {
  busy = $state(false);
  /** What a click in the waveform marks, while it is taken. */
  brush = $state<Fate | null>(null);
  private said = $state.raw({ key: '', words: '' });
  private marks = $state.raw<Record<string, Record<Fate, number[]>>>({});

  constructor(
    private work: Work,
    private live: Live,
  ) {}

  /** What came of it, for the selected gate. */
  get result(): string {
    return this.said.key === this.key ? this.said.words : '';
  }

  /** Frames that are marked for the selected gate. */
  of(fate: Fate): number[] {
    return this.marks[this.key]?.[fate] ?? [];
  }

  /** Marks the hit at the playhead. */
  mark(fate: Fate): void {
    this.put(fate, this.live.frame);
  }

  /** Marks the hit at a frame. */
  put(fate: Fate, frame: number): void {
    this.set(
      fate,
      [...this.of(fate), frame].sort((a, b) => a - b),
    );
  }

  take(fate: Fate): void {
    this.brush = this.brush === fate ? null : fate;
  }

  remove(fate: Fate, frame: number): void {
    this.set(
      fate,
      this.of(fate).filter((one) => one !== frame),
    );
  }

  goTo(frame: number): void {
    this.live.send({ type: 'seek', frame });
  }

  /** Finds the settings and puts them in: one undo step. */
  async find(): Promise<void> {
    const { work } = this;
    const session = work.state?.id;
    const id = work.stage?.id;
    if (session === undefined || id === undefined || this.busy) return;
    this.busy = true;
    this.say('');
    try {
      const found = await api.gating(session, {
        stage: id,
        keep: this.of('keep'),
        refuse: this.of('refuse'),
      });
      const stage = work.stage;
      if (work.state?.id !== session || stage?.id !== id) return;
      this.say(found.problem ?? '');
      if (found.problem) return;
      const { low_hz, high_hz, threshold_db, hysteresis_db } = found;
      const edits: Edit[] = [
        { type: 'set_stage', stage: stage.id, key: { ...stage.key, low_hz, high_hz } },
        {
          type: 'set_params',
          stage: stage.id,
          params: { threshold_db, hysteresis_db },
          whole: false,
          words: 'set by marked hits',
        },
      ];
      await work.edit(...edits);
      const key =
        low_hz === null && high_hz === null ? 'open' : `${hertz(low_hz)} to ${hertz(high_hz)}`;
      this.say(
        `threshold ${figure(threshold_db, 1)} dB, hysteresis ${figure(hysteresis_db, 1)} dB, key ` +
          `${key}: they lie ${figure(found.margin_db, 1)} dB apart`,
      );
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      this.say(error.message);
    } finally {
      this.busy = false;
    }
  }

  private say(words: string): void {
    this.said = { key: this.key, words };
  }

  private get key(): string {
    return `${this.work.state?.id}/${this.work.stage?.id}`;
  }

  private set(fate: Fate, frames: number[]): void {
    const now = this.marks[this.key] ?? { keep: [], refuse: [] };
    this.marks = { ...this.marks, [this.key]: { ...now, [fate]: [...new Set(frames)] } };
    this.say('');
  }
}
