import { api, Refusal } from './api';
import { figure, hertz } from './figures';
import type { Live } from './live.svelte';
import type { Edit } from './types';
import type { Work } from './work.svelte';

export type Fate = 'keep' | 'refuse';

/** Hits that a gate is to keep or to refuse; the core finds what tells them apart. */
export class Marking {
  busy = $state(false);
  result = $state<string | null>(null);
  private marks = $state.raw<Record<string, Record<Fate, number[]>>>({});

  constructor(
    private work: Work,
    private live: Live,
  ) {}

  /** Frames that are marked for the selected gate. */
  of(fate: Fate): number[] {
    return this.marks[this.work.stage?.id ?? '']?.[fate] ?? [];
  }

  /** Marks the hit at the playhead. */
  mark(fate: Fate): void {
    this.put(
      fate,
      [...this.of(fate), this.live.frame].sort((a, b) => a - b),
    );
  }

  remove(fate: Fate, frame: number): void {
    this.put(
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
    const stage = work.stage;
    if (!work.state || !stage || this.busy) return;
    this.busy = true;
    this.result = null;
    try {
      const found = await api.gating(work.state.id, {
        stage: stage.id,
        keep: this.of('keep'),
        refuse: this.of('refuse'),
      });
      this.result = found.problem;
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
      this.result =
        `threshold ${figure(threshold_db, 1)} dB, hysteresis ${figure(hysteresis_db, 1)} dB, key ` +
        `${key}: they lie ${figure(found.margin_db, 1)} dB apart`;
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      this.result = error.message;
    } finally {
      this.busy = false;
    }
  }

  private put(fate: Fate, frames: number[]): void {
    const id = this.work.stage?.id ?? '';
    const now = this.marks[id] ?? { keep: [], refuse: [] };
    this.marks = { ...this.marks, [id]: { ...now, [fate]: [...new Set(frames)] } };
    this.result = null;
  }
}
