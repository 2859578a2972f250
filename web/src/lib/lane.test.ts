import { expect, test } from 'vitest';
import {
  cornersOf,
  laneScale,
  pointAdded,
  pointMoved,
  pointShaped,
  shareOf,
  shown,
  valueOf,
  type LaneScale,
} from './lane';
import type { Point } from './types';

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

const points: Point[] = [
  { at_s: 1, value: -10, shape: 'stepped' },
  { at_s: 3, value: -20, shape: 'straight' },
  { at_s: 8, value: -5, shape: 'curved' },
];

test('a point is added in its order', () => {
  const fresh: Point = { at_s: 5, value: 0, shape: 'straight' };
  const [all, at] = pointAdded(points, fresh);
  expect([all.map((p) => p.at_s), at]).toEqual([[1, 3, 5, 8], 2]);
});

test('a point moves between its neighbours, the last one to the end of the song', () => {
  const moved = (which: number, at_s: number): number | undefined =>
    pointMoved(points, which, { at_s, value: 0 }, 60)[which]?.at_s;
  expect([moved(1, 0.5), moved(1, 4), moved(1, 9)]).toEqual([1, 4, 8]);
  expect([moved(0, -2), moved(2, 90)]).toEqual([0, 60]);
});

test('shapes follow each other in a circle', () => {
  let turned = points;
  const seen = [0, 1, 2].map(() => (turned = pointShaped(turned, 1))[1]?.shape);
  expect(seen).toEqual(['curved', 'stepped', 'straight']);
  expect(turned[0]?.shape).toBe('stepped');
});

test('behind a stepped point the value holds until the next one', () => {
  expect(cornersOf(points)).toEqual([
    [1, -10],
    [3, -10],
    [3, -20],
    [8, -5],
  ]);
});
