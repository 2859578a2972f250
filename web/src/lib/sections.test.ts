import { expect, test } from 'vitest';
import { barFrames, dragged, sectionAt, sectionSpans, snapped } from './sections';
import type { Session } from './types';

const model = {
  rate: 1000,
  bpm: 120,
  sections: [
    { name: 'a', start_s: 0, end_s: null },
    { name: 'b', start_s: 4, end_s: 6 },
    { name: 'c', start_s: 8, end_s: null },
  ],
} as unknown as Session;

test('a section ends where it says, where the next begins, or with the song', () => {
  const spans = sectionSpans(model, 10000);
  expect(spans.map((s) => [s.begin, s.end])).toEqual([
    [0, 4000],
    [4000, 6000],
    [8000, 10000],
  ]);
  expect(sectionAt(spans, 7000)).toBeUndefined();
  expect(sectionAt(spans, 5999)?.name).toBe('b');
});

test('edges snap to bars, or to nothing', () => {
  expect(barFrames(model)).toBe(2000);
  expect(snapped(2900, 2000, false)).toBe(2000);
  expect(snapped(3100, 2000, false)).toBe(4000);
  expect(snapped(3100.4, 2000, true)).toBe(3100);
  expect(snapped(-5, 2000, true)).toBe(0);
});

test('a hand moves an edge, a whole section, or draws one in either direction', () => {
  const section = { index: 0, name: 'a', begin: 1000, end: 3000, open: false };
  const snap = (frame: number): number => snapped(frame, 500, false);
  expect(dragged('start', section, 1000, 1740, snap)).toEqual({ begin: 1500, end: 3000 });
  expect(dragged('end', section, 3000, 2260, snap)).toEqual({ begin: 1000, end: 2500 });
  expect(dragged('name', section, 1200, 1700, snap)).toEqual({ begin: 1500, end: 3500 });
  expect(dragged('new', undefined, 1900, 900, snap)).toEqual({ begin: 1000, end: 2000 });
  expect(dragged('end', undefined, 0, 100, snap)).toBeNull();
});
