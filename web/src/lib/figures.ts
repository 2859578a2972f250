import type { Control, ParamValue } from './types';

const MINUS = '−';

/** A number for reading: a real minus sign, as many decimals as the range deserves. */
export function figure(value: number, decimals?: number): string {
  const places = decimals ?? (Math.abs(value) >= 100 ? 0 : Math.abs(value) >= 10 ? 1 : 2);
  const text = value.toFixed(places);
  const plain = Number(text) === 0 ? text.replace('-', '') : text;
  return plain.replace('-', MINUS);
}

export function signed(value: number, decimals = 1): string {
  const text = figure(value, decimals);
  return value > 0 && Number(value.toFixed(decimals)) !== 0 ? `+${text}` : text;
}

/** The value of a control and its unit, as they stand above its rule. */
export function shown(control: Control, value: ParamValue): { text: string; unit: string } {
  if (value === null) return { text: 'open', unit: '' };
  if (typeof value !== 'number') return { text: String(value), unit: '' };
  const share = control.unit === '' && control.low === 0 && control.high === 1;
  if (share) return { text: figure(value * 100, 0), unit: '%' };
  if (control.unit === 'ms' && value >= 1000) return { text: figure(value / 1000, 2), unit: 's' };
  if (control.unit === 'Hz' && value >= 1000) return { text: figure(value / 1000, 2), unit: 'kHz' };
  if (control.unit === 'dB') return { text: figure(value, 1), unit: 'dB' };
  if (control.unit === ': 1')
    return { text: value >= 100 ? '∞' : figure(value, value < 10 ? 1 : 0), unit: control.unit };
  return { text: figure(value), unit: control.unit };
}

/** A mark on a rule, as short as it can be. */
export function marked(control: Control, value: number): string {
  if (control.unit === '' && control.high === 1) return figure(value * 100, 0);
  if (control.unit === ': 1' && value >= 100) return '∞';
  if (Math.abs(value) >= 1000) return `${value / 1000}k`;
  return String(value).replace('-', MINUS);
}

/** What may stand behind a number of a unit, and what it multiplies by. */
const SUFFIXES: Record<string, Record<string, number>> = {
  dB: { db: 1 },
  ms: { ms: 1, s: 1000 },
  s: { s: 1, ms: 0.001 },
  Hz: { hz: 1, k: 1000, khz: 1000 },
  ': 1': { ':1': 1, ': 1': 1, ':': 1 },
  bpm: { bpm: 1 },
};

/** A control, or anything else with a number that can be typed. */
export interface Typeable {
  unit: string;
  low: number | null | undefined;
  high: number | null | undefined;
}

/** Reads what was typed: -18, 4:1, 120ms, 0.12 s, 2k5, 2.5 kHz, 40 %. Null if it says nothing of
 * that unit. */
export function typed(text: string, unit: string, high: number | null): number | null {
  const clean = text.trim().toLowerCase().replace(MINUS, '-').replace(',', '.');
  if (/^(inf|∞)/.test(clean) && unit === ': 1') return high;
  const split = unit === 'Hz' ? /^(\d+)k(\d+)$/.exec(clean.replace(/\s*hz$/, '')) : null;
  if (split) return Number(`${split[1]}.${split[2]}`) * 1000;
  const found = /^([+-]?(?:\d+\.?\d*|\.\d+))\s*(.*)$/.exec(clean);
  if (!found) return null;
  const value = Number(found[1]);
  const suffix = found[2] ?? '';
  if (unit === '' && high === 1) {
    if (suffix === '%' || (suffix === '' && value > 1)) return value / 100;
    return suffix === '' ? value : null;
  }
  if (suffix === '') return value;
  const factor = (SUFFIXES[unit] ?? { [unit.toLowerCase()]: 1 })[suffix];
  return factor === undefined ? null : value * factor;
}

/** A range in words, in the unit that it is typed in. */
export function rangeOf({ unit, low, high }: Typeable): string {
  if (unit === '' && high === 1 && (low ?? 0) >= -1)
    return `${figure((low ?? 0) * 100, 0)} to 100 %`;
  const end = (value: number): string => String(Number(value.toPrecision(6))).replace('-', MINUS);
  return `${end(low ?? 0)} to ${end(high ?? 1)} ${unit}`.trim();
}

/** A typed value, or in words why it cannot be used; the range is part of them. */
export function readTyped(text: string, of: Typeable): { value: number } | { why: string } {
  const value = typed(text, of.unit, of.high ?? null);
  if (value === null || !Number.isFinite(value))
    return { why: `“${text.trim()}” is not understood; ${rangeOf(of)} can be typed` };
  if (value < (of.low ?? -Infinity) - 1e-9 || value > (of.high ?? Infinity) + 1e-9)
    return { why: `${text.trim()} is out of range; ${rangeOf(of)} is allowed` };
  return { value };
}

/** Whether a note value was typed: 1/8, 1/8. dotted, 1/8t a triplet. */
export function noteTyped(text: string, notes: readonly string[]): string | null {
  const clean = text.trim().toLowerCase().replace(/\s/g, '');
  return notes.find((note) => note === clean) ?? null;
}

/** Minutes, seconds and thousandths of a frame. */
export function clock(frame: number, rate: number): string {
  const seconds = Math.max(frame, 0) / rate;
  const minutes = Math.floor(seconds / 60);
  const rest = (seconds - minutes * 60).toFixed(3).padStart(6, '0');
  return `${minutes}:${rest}`;
}

/** Bar and beat of a frame, four beats a bar. */
export function barBeat(frame: number, rate: number, bpm: number): string {
  const beat = Math.floor(((frame / rate) * bpm) / 60 + 1e-6);
  return `${Math.floor(beat / 4) + 1}.${(beat % 4) + 1}`;
}

/** A frequency with its unit. */
export function hertz(value: number | null | undefined): string {
  if (value === null || value === undefined) return 'open';
  if (value < 1000) return `${value.toFixed(0)} Hz`;
  return `${(value / 1000).toFixed(value < 10000 ? 2 : 1)} kHz`;
}

/** A pan in words. */
export function panned(pan: number): string {
  if (Math.abs(pan) < 0.005) return 'centre';
  return `${pan < 0 ? 'L' : 'R'} ${Math.round(Math.abs(pan) * 100)}`;
}
