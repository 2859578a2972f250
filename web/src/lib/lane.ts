/** How the values of a control lie on its automation, and how they are told. */
import { range } from './controls';
import { figure, panned } from './figures';
import type { Control } from './types';

export interface LaneScale {
  title: string;
  unit: string;
  low: number;
  high: number;
  /** What whole numbers mean, of a choice. */
  words: string[];
  log: boolean;
  pan: boolean;
}

export function laneScale(name: string, control: Control | null | undefined): LaneScale {
  return {
    ...(control ? range(control) : { low: 0, high: 1, words: [] }),
    title: control?.label ?? name,
    unit: control?.unit ?? '',
    log: control?.scale === 'log',
    pan: name === 'pan',
  };
}

/** Where a value lies between the lowest and the highest, 0 to 1. */
export function shareOf(scale: LaneScale, value: number): number {
  const { low, high, log } = scale;
  const share =
    log && low > 0 ? Math.log(value / low) / Math.log(high / low) : (value - low) / (high - low);
  return Math.min(Math.max(share, 0), 1);
}

/** The value at a share of the way, 0 to 1; a whole number of a choice. */
export function valueOf(scale: LaneScale, share: number): number {
  const { low, high, log } = scale;
  const inside = Math.min(Math.max(share, 0), 1);
  const value = log && low > 0 ? low * (high / low) ** inside : low + inside * (high - low);
  return scale.words.length ? Math.round(value) : Number(value.toPrecision(4));
}

export function shown(scale: LaneScale, value: number): string {
  if (scale.words.length) return scale.words[Math.round(value)] ?? '';
  if (scale.pan) return panned(value);
  if (inPercent(scale)) return `${figure(value * 100, 0)} %`;
  return `${figure(value, Math.abs(value) >= 100 ? 0 : 1)} ${scale.unit}`.trim();
}

/** A bare number of at most 1 is a share. */
export function inPercent(scale: LaneScale): boolean {
  return scale.unit === '' && scale.high <= 1;
}
