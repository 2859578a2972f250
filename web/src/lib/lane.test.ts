import { expect, test } from 'vitest';
import { laneScale, shareOf, shown, valueOf, type LaneScale } from './lane';

const level: LaneScale = {
  ...laneScale('threshold_db', null),
  unit: 'dB',
  low: -60,
  high: 0,
};
const pitch: LaneScale = { ...level, unit: 'Hz', low: 20, high: 20480, log: true };

test('a value and its place belong together, straight and by octaves', () => {
  expect(shareOf(level, -15)).toBe(0.75);
  expect(valueOf(level, 0.75)).toBe(-15);
  expect(shareOf(pitch, 640)).toBeCloseTo(0.5, 12);
  expect(valueOf(pitch, 0.5)).toBe(640);
});

test('nothing lies outside', () => {
  expect([shareOf(level, 6), shareOf(level, -90)]).toEqual([1, 0]);
  expect([valueOf(pitch, -1), valueOf(pitch, 2)]).toEqual([20, 20480]);
});

test('values are told as on the panel', () => {
  expect(shown(level, -6.25)).toBe('−6.3 dB');
  expect(shown(pitch, 640)).toBe('640 Hz');
  expect(shown({ ...level, unit: '', low: 0, high: 1 }, 0.35)).toBe('35 %');
  const choice = { ...level, low: 0, high: 2, words: ['plain', 'good', 'high'] };
  expect(shown(choice, valueOf(choice, 0.4))).toBe('good');
});
