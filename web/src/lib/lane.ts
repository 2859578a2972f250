/** How the values of a control lie on its automation, and how they are told. */
import { range } from './controls';
import { figure, panned } from './figures';
import { shareIn, valueIn, type Range } from './scale';
import type { Control } from './types';

export interface LaneScale extends Range {
  title: string;
  unit: string;
  /** What whole numbers mean, of a choice. */
  words: string[];
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
  return Math.min(Math.max(shareIn(scale, value), 0), 1);
}

/** The value at a share of the way, 0 to 1; a whole number of a choice. */
export function valueOf(scale: LaneScale, share: number): number {
  const value = valueIn(scale, share);
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
