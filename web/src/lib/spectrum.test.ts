import { describe, expect, it } from 'vitest';
import { bandAt, dbY, hzAt, hzX, path } from './spectrum';

describe('the spectrum field', () => {
  it('is logarithmic and goes both ways', () => {
    expect(hzX(20, 900)).toBe(0);
    expect(hzX(20000, 900)).toBeCloseTo(900);
    expect(hzX(200, 900)).toBeCloseTo(300);
    expect(hzAt(hzX(1234, 700), 700)).toBeCloseTo(1234);
  });
  it('keeps levels inside', () => {
    expect(dbY(-200, 90)).toBe(90);
    expect(dbY(6, 90)).toBe(0);
    expect(path([-84, 6], 90, 90, [20, 20000])).toBe('M0.0 90.0L90.0 0.0');
  });
  it('finds bands', () => {
    expect([30, 500, 9000, 20000].map((hz) => bandAt([20, 200, 2000, 20000], hz))).toEqual([
      0, 1, 2, 2,
    ]);
  });
});
