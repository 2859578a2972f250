import { figure, signed } from '../../lib/figures';
import type { Ledger } from '../../lib/types';

/** A row of the ledger. */
export interface Line {
  name: string;
  words: string;
  in: string;
  out: string;
  diff: string;
}

type Figure = keyof Omit<Ledger['before'], 'ranges_db'>;
/** What a row is called, what it means, its figure, its decimals. */
export const FIRST: [string, string, Figure, number?][] = [
  ['Loudness LUFS', 'Integrated, gated, as EBU R 128 has it', 'integrated_lufs'],
  ['Loudest 3 s', 'Short-term loudness at its highest, LUFS', 'short_term_max_lufs'],
  ['True peak dBTP', 'The highest point, between the samples too', 'true_peak_dbtp'],
  ['Crest dB', 'How far the highest sample stands over the mean level', 'crest_db'],
  ['Range LU', 'From the quiet passages to the loud ones', 'loudness_range_lu'],
  ['Right to left dB', 'Level of the right side against the left', 'right_to_left_db'],
];
export const MORE: typeof FIRST = [
  ['Loudest 0.4 s', 'Momentary loudness at its highest, LUFS', 'momentary_max_lufs'],
  ['PLR dB', 'Peak to loudness: true peak over integrated loudness', 'peak_to_loudness_db'],
  ['RMS', 'Mean level, not weighted, dBFS', 'rms_dbfs'],
  ['Sample peak', 'The highest sample, dBFS', 'sample_peak_dbfs'],
  ['Correlation', 'Of left and right: 1 is mono, 0 has nothing in common', 'correlation', 2],
  ['Sides to middle', 'What differs against what is common, dB', 'sides_to_middle_db'],
  ['DC offset', 'The mean of all samples; full scale is 1', 'dc_offset', 3],
];

/** The rows of these figures, in, out and their difference. */
export function lines(l: Ledger, wanted: typeof FIRST): Line[] {
  return wanted.map(([name, words, key, decimals = 1]) => {
    const [a, b] = [l.before[key], l.after[key]];
    const said = (v: number | null): string => (v === null ? '–' : figure(v, decimals));
    const diff = a === null || b === null ? '–' : signed(b - a, decimals);
    return { name, words, in: said(a), out: said(b), diff };
  });
}

/** The loudness of each section. */
export function loudness(l: Ledger): Line[] {
  return l.sections.map(({ name, in_lufs: a, out_lufs: b }) => ({
    name,
    words: 'Integrated loudness of this section',
    in: a === null ? '–' : figure(a, 1),
    out: b === null ? '–' : figure(b, 1),
    diff: a === null || b === null ? '–' : signed(b - a),
  }));
}
