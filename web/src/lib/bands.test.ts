import { expect, test } from 'vitest';
import { changedBand, freshBand, gainOf, movedBand, narrowed, stepped } from './bands';
import type { Control } from './types';

const field = (name: string, value: number, low: number, high: number): Control =>
  ({ name, type: 'number', default: value, low, high }) as Control;
const control = {
  name: 'bands',
  fields: [field('hz', 1000, 10, 22000), field('gain_db', 0, -24, 24), field('q', 0.7, 0.1, 30)],
} as unknown as Control;

test('a fresh band has what is declared, and its own', () => {
  expect(freshBand(control, { type: 'bell', hz: 80 })).toEqual({
    hz: 80,
    gain_db: 0,
    q: 0.7,
    type: 'bell',
  });
});

test('a band is moved within its ranges, to three figures', () => {
  const bands = [freshBand(control, { type: 'bell' }), freshBand(control, { type: 'notch' })];
  expect(movedBand(bands, 0, control, 1234.5, 3.14159)[0]).toMatchObject({
    hz: 1230,
    gain_db: 3.1,
  });
  expect(movedBand(bands, 0, control, 1, 99)[0]).toMatchObject({ hz: 10, gain_db: 24 });
  // A notch has no gain to move.
  expect(movedBand(bands, 1, control, 50, 9)[1]).toMatchObject({ hz: 50, gain_db: 0 });
  expect(gainOf({ type: 'low-cut', gain_db: 5 })).toBe(0);
});

test('one band changes, the others stay the same objects', () => {
  const bands = [freshBand(control, { type: 'bell' }), freshBand(control, { type: 'bell' })];
  const next = changedBand(bands, 1, () => ({ hz: 5 }));
  expect(next[0]).toBe(bands[0]);
  expect(next[1]?.hz).toBe(5);
  expect(narrowed(bands, 0, control, 100)[0]?.q).toBe(30);
});

test('keys move a band by a semitone, a decibel or a tenth of its width', () => {
  const bands = [freshBand(control, { type: 'bell', hz: 440 })];
  const after = (key: string, fine = false): unknown => stepped(bands, 0, control, key, fine)?.[0];
  expect(after('ArrowRight')).toMatchObject({ hz: 466, gain_db: 0 });
  expect(after('ArrowLeft')).toMatchObject({ hz: 415 });
  expect(after('ArrowRight', true)).toMatchObject({ hz: 446 });
  expect(after('ArrowUp')).toMatchObject({ hz: 440, gain_db: 1 });
  expect(after('ArrowDown', true)).toMatchObject({ gain_db: -0.1 });
  expect(after('PageUp')).toMatchObject({ q: 0.77 });
  expect(after('a')).toBeUndefined();
});
