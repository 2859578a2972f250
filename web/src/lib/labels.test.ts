import { expect, test } from 'vitest';
import { spaced } from './labels';

test('labels that have room stay where they are', () => {
  expect(spaced([20, 50], 11, 74)).toEqual([20, 50]);
});

test('those at the foot go up, and only those', () => {
  expect(spaced([19, 77, 77, 77], 11, 74)).toEqual([19, 52, 63, 74]);
});

test('one on another goes below it, in whatever order they come', () => {
  expect(spaced([40, 19, 20], 11, 74)).toEqual([41, 19, 30]);
});
