import type { Control } from './types';

/** Where a value stands on its rule, 0 to 1. */
export function place(control: Control, value: number): number {
  const { low, high } = limits(control);
  if (control.scale === 'log' && low > 0) return Math.log(value / low) / Math.log(high / low);
  return (value - low) / (high - low);
}

/** The value at a place on a rule, rounded to a step that suits its size. */
export function valueAt(control: Control, at: number): number {
  const { low, high } = limits(control);
  const share = Math.min(Math.max(at, 0), 1);
  if (control.scale === 'log' && low > 0) return tidy(control, low * (high / low) ** share);
  return tidy(control, low + (high - low) * share);
}

export function limits(control: Control): { low: number; high: number } {
  return { low: control.low ?? 0, high: control.high ?? 1 };
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
