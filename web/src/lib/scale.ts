import type { Control } from './types';

/** From where to where values reach, and whether by octaves. */
export interface Range {
  low: number;
  high: number;
  log: boolean;
}

/** Where a value lies between the lowest and the highest, 0 to 1 inside. */
export function shareIn({ low, high, log }: Range, value: number): number {
  if (log && low > 0) return Math.log(value / low) / Math.log(high / low);
  return (value - low) / (high - low);
}

/** The value at a share of the way, none outside. */
export function valueIn({ low, high, log }: Range, share: number): number {
  const inside = Math.min(Math.max(share, 0), 1);
  return log && low > 0 ? low * (high / low) ** inside : low + (high - low) * inside;
}

/** Where a value stands on its rule, 0 to 1. */
export function place(control: Control, value: number): number {
  return shareIn(limits(control), value);
}

/** The value at a place on a rule, rounded to a step that suits its size. */
export function valueAt(control: Control, at: number): number {
  return tidy(control, valueIn(limits(control), at));
}

export function limits(control: Control): Range {
  return { low: control.low ?? 0, high: control.high ?? 1, log: control.scale === 'log' };
}

function tidy(control: Control, value: number): number {
  const { low, high } = limits(control);
  const size = control.scale === 'log' ? 10 ** Math.floor(Math.log10(Math.abs(value))) / 50 : 0;
  const step = Math.max(control.step, size);
  const rounded = Number((Math.round(value / step) * step).toPrecision(10));
  return Math.min(Math.max(rounded, low), high);
}

export const FLOOR_DB = -60;

/** Height of an amplitude, 0 at the floor to 1 at full scale. */
export function height(amplitude: number, decibels: boolean, floor = FLOOR_DB): number {
  const size = Math.abs(amplitude);
  if (!decibels) return Math.min(size, 1);
  if (size <= 10 ** (floor / 20)) return 0;
  return Math.min(1 - (20 * Math.log10(size)) / floor, 1);
}

/** The amplitude at a height. */
export function amplitudeAt(share: number, decibels: boolean, floor = FLOOR_DB): number {
  if (!decibels) return share;
  return 10 ** ((floor * (1 - share)) / 20);
}

export const toDb = (amplitude: number): number => 20 * Math.log10(Math.max(amplitude, 1e-6));
export const toGain = (db: number): number => 10 ** (db / 20);
