import { api } from './api';
import type { LabAnswer, LabOptions, LabRequest } from './types';
import type { Work } from './work.svelte';
import { newest } from './newest';

export type Measurement = LabOptions['measurement'];

/** What is measured, and what of the signal it takes. */
export const MEASUREMENTS: [Measurement, string, string, (keyof LabOptions)[]][] = [
  [
    'harmonics',
    'Harmonics',
    'of a settled sine: each order, THD, what folds back',
    ['level_db', 'hz'],
  ],
  ['sweep', 'Sweep', 'a rising sine: its harmonics, and what comes back down', ['level_db']],
  [
    'steps',
    'Steps',
    'louder and quieter at once: attack and release',
    ['level_db', 'from_db', 'hz'],
  ],
  ['curve', 'Curve', 'level in against level out, measured and drawn', ['hz']],
  ['response', 'Response', 'magnitude, phase and group delay of a pulse', ['level_db']],
  [
    'difference',
    'Difference',
    'what is left of noise when both settings are taken apart',
    ['level_db'],
  ],
  [
    'hard-cases',
    'Hard cases',
    'high and low notes, beginnings, peaks, rings, loudness: each as hard as it gets',
    ['level_db'],
  ],
];

/** The measurement on the bench of Lab; it is made anew whenever something of it changes. */
export class Lab {
  options = $state<LabOptions>({
    measurement: 'harmonics',
    rate: null,
    level_db: -12,
    from_db: -40,
    hz: 1000,
    channel: 'both',
    printed: 'float',
  });
  /** A strip, branch, split or stage. */
  place = $state('');
  against = $state<LabRequest['against']>(null);
  answer = $state.raw<LabAnswer | null>(null);
  error = $state('');
  busy = $state(false);
  private timer = 0;

  constructor(private work: Work) {}

  /** Measures soon; what is in hand need not be measured at every step. */
  soon(): void {
    clearTimeout(this.timer);
    this.timer = window.setTimeout(this.measure, 120);
  }

  private measure = newest(async () => {
    const session = this.work.state?.id;
    if (session === undefined || !this.place) return;
    this.busy = true;
    const { place, against } = this;
    try {
      this.answer = await api.lab(session, { place, against, options: { ...this.options } });
      this.error = '';
    } catch (error) {
      this.answer = null;
      this.error = error instanceof Error ? error.message : String(error);
    }
    this.busy = false;
  });
}
