import { describe, expect, it } from 'vitest';
import { spansOf } from './draw';

describe('spans in which something was taken away', () => {
  it('begins and ends with the reduction and bridges gaps of two columns', () => {
    const cells = [0, 0, 3, 2, 0, 0, 1, 0, 0, 0, 0.6, 0.4];
    expect(spansOf(cells)).toEqual([
      [2, 7],
      [10, 11],
    ]);
    expect(spansOf([])).toEqual([]);
    expect(spansOf([0.4, 0.4])).toEqual([]);
  });
});
