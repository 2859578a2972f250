import { describe, expect, it } from 'vitest';
import { added, dragged, type LevelPoint, nearest } from './points';

const POINTS: LevelPoint[] = [
  [-80, -80],
  [-24, -24],
  [0, -12],
];

describe('points of a curve', () => {
  it('finds the nearest within reach', () => {
    expect(nearest(POINTS, [-22, -25], 5)).toBe(1);
    expect(nearest(POINTS, [-50, -50], 5)).toBeNull();
  });

  it('keeps a dragged point between its neighbours and in range', () => {
    expect(dragged(POINTS, 1, [-30.04, -20.06])[1]).toEqual([-30, -20.1]);
    expect(dragged(POINTS, 1, [40, 0])[1]).toEqual([-0.1, 0]);
    expect(dragged(POINTS, 0, [-300, -300], { low: -100, high: 20 })[0]).toEqual([-100, -100]);
    expect(dragged(POINTS, 2, [90, 90], { low: -100, high: 20 })[2]).toEqual([20, 20]);
  });

  it('adds in order, and moves the one that is there', () => {
    expect(added(POINTS, [-50, -60]).map((p) => p[0])).toEqual([-80, -50, -24, 0]);
    expect(added(POINTS, [-24, -30])).toEqual([POINTS[0], [-24, -30], POINTS[2]]);
  });
});
