import { expect, test } from 'vitest';
import { AS_SESSION, fadeSeconds, formatOf, rateOf, RATES_KHZ, widthsOf } from './printing';

test('a format has its width, a listening copy its bit rate', () => {
  expect(formatOf('Broadcast WAV', '32f', null, 192)).toBe('bwf-32f');
  const coder = { codec: 'opus', title: 'Opus', kbps: [64, 96, 128] } as never;
  expect(formatOf('Opus', '24', coder, 64)).toBe('opus-64');
  // One that this coder does not have: the last but one.
  expect(formatOf('Opus', '24', coder, 192)).toBe('opus-96');
});

test('only what can hold float is offered it', () => {
  expect(widthsOf('WAV')).toContain('32f');
  expect(widthsOf('FLAC')).not.toContain('32f');
});

test('rates are whole Hz', () => {
  expect(RATES_KHZ.map((khz) => rateOf(`${khz} kHz`))).toEqual([
    44100, 48000, 88200, 96000, 192000,
  ]);
  expect(rateOf(AS_SESSION)).toBeNull();
});

test('a fade is a number of seconds, with a comma too, or is refused', () => {
  expect([fadeSeconds('0,25'), fadeSeconds(''), fadeSeconds('60')]).toEqual([0.25, 0, 60]);
  for (const typed of ['-1', '61', 'long', 'Infinity'])
    expect(() => fadeSeconds(typed)).toThrow('is no length of a fade');
});
