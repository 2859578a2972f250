import { expect, test } from 'vitest';
import { newest } from './newest';

test('one at a time, and once more for all that was wanted meanwhile', async () => {
  const open: (() => void)[] = [];
  const want = newest(() => new Promise((resolve) => void open.push(resolve)));
  want();
  want();
  want();
  expect(open.length).toBe(1);
  open[0]?.();
  await expect.poll(() => open.length).toBe(2);
  open[1]?.();
  want();
  await expect.poll(() => open.length).toBe(3);
});

test('what fails is asked for again', async () => {
  let asked = 0;
  const want = newest(() => {
    asked += 1;
    return Promise.reject(new Error('not there'));
  });
  want();
  want();
  await expect.poll(() => asked).toBe(2);
});

test('whoever left is not asked for any more', async () => {
  const open: (() => void)[] = [];
  const want = newest(() => new Promise((resolve) => void open.push(resolve)));
  want();
  want();
  want.leave();
  open[0]?.();
  await new Promise((done) => setTimeout(done, 1));
  want();
  expect(open.length).toBe(1);
});
