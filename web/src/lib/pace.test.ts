import { expect, it } from 'vitest';
import { nextTick } from './pace';

it('draws twenty pictures a second, fewer where they take long, five for less motion', () => {
  expect(nextTick(50, 5, false)).toBe(50);
  expect(nextTick(50, 60, false)).toBe(120);
  expect(nextTick(200, 5, false)).toBe(160);
  expect(nextTick(50, 900, false)).toBe(400);
  expect(nextTick(50, 5, true)).toBe(200);
});
