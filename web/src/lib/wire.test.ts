import { expect, test } from 'vitest';
import { HEADER_BYTES, parse } from './wire';

/** One block as the engine packs it. */
function packed(
  epoch: number,
  frame: number,
  sound: number[],
  report: object,
  again = 0,
): Uint8Array {
  const told = new TextEncoder().encode(JSON.stringify(report));
  const bytes = new Uint8Array(HEADER_BYTES + 4 * sound.length + told.length);
  const head = new DataView(bytes.buffer);
  head.setUint32(0, epoch, true);
  head.setUint32(4, again, true);
  head.setFloat64(8, frame, true);
  head.setUint32(16, sound.length / 4, true);
  head.setUint32(20, told.length, true);
  sound.forEach((value, index) => head.setFloat32(HEADER_BYTES + 4 * index, value, true));
  bytes.set(told, HEADER_BYTES + 4 * sound.length);
  return bytes;
}

test('a message holds blocks one behind the other', () => {
  const both = [
    packed(3, 1024, [1, 2, 3, 4], { taken: 'ä' }),
    packed(4, 0, [5, 6, 7, 8, 9, 10, 11, 12], {}, 2048),
  ];
  const found = parse(Uint8Array.from(both.flatMap((block) => [...block])).buffer);
  expect(
    found.map(({ piece }) => [piece.epoch, piece.again, piece.frame, [...piece.sound]]),
  ).toEqual([
    [3, 0, 1024, [1, 2, 3, 4]],
    [4, 2048, 0, [5, 6, 7, 8, 9, 10, 11, 12]],
  ]);
  expect(found.map(({ report }) => report)).toEqual([{ taken: 'ä' }, {}]);
});

test('half a block is no block', () => {
  const whole = packed(1, 0, [1, 2, 3, 4], {});
  expect(() => parse(whole.slice(0, -1).buffer)).toThrow();
});
