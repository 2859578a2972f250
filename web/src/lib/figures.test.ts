import { describe, expect, it } from 'vitest';
import {
  barBeat,
  clock,
  figure,
  hertz,
  noteTyped,
  panned,
  readTyped,
  signed,
  typed,
} from './figures';
import { amplitudeAt, height, place, valueAt } from './scale';
import type { Control } from './types';

const ratio = { low: 1, high: 100, scale: 'log', step: 0.1 } as Control;
const gain = { low: -60, high: 24, scale: 'db', step: 0.1 } as Control;

describe('typed values', () => {
  it.each([
    ['-18', 'dB', -18],
    ['−18 dB', 'dB', -18],
    ['4:1', ': 1', 4],
    ['∞', ': 1', 100],
    ['120ms', 'ms', 120],
    ['0.12 s', 'ms', 120],
    ['2k5', 'Hz', 2500],
    ['2.5 kHz', 'Hz', 2500],
    ['1,5', 'dB', 1.5],
  ])('%s in %s', (text, unit, value) => {
    expect(typed(text, unit, 100)).toBeCloseTo(value);
  });
  it('reads shares as per cent', () => {
    expect(typed('40 %', '', 1)).toBeCloseTo(0.4);
    expect(typed('0.4', '', 1)).toBeCloseTo(0.4);
  });
  it.each([
    ['2k5', { unit: 'dB', low: -60, high: 0 }, '−60 to 0 dB can be typed'],
    ['4:1', { unit: 'dB', low: -60, high: 0 }, 'not understood'],
    ['-200', { unit: 'dB', low: -60, high: 0 }, 'out of range; −60 to 0 dB is allowed'],
    ['abc', { unit: 'ms', low: 5, high: 4000 }, '5 to 4000 ms'],
    ['140', { unit: '', low: 0, high: 1 }, '0 to 100 %'],
    ['', { unit: 'Hz', low: 20, high: 20000 }, '20 to 20000 Hz'],
    ['1e999', { unit: 'Hz', low: 20, high: 20000 }, 'not understood'],
  ])('refuses %s with the range', (text, of, words) => {
    const found = readTyped(text, of);
    expect('why' in found && found.why).toContain(words);
  });
  it('knows note values', () => {
    const notes = ['1/4', '1/8', '1/8.', '1/8t'];
    expect(noteTyped(' 1/8. ', notes)).toBe('1/8.');
    expect(noteTyped('1/8T', notes)).toBe('1/8t');
    expect(noteTyped('1/7', notes)).toBeNull();
  });
  it('knows nonsense', () => {
    expect(typed('loud', 'dB', 0)).toBeNull();
    expect(typed('', 'dB', 0)).toBeNull();
  });
});

describe('reading', () => {
  it('uses a real minus and no minus nought', () => {
    expect(figure(-3.25, 1)).toBe('−3.3');
    expect(figure(-0.01, 1)).toBe('0.0');
    expect(signed(2, 1)).toBe('+2.0');
  });
  it('tells time', () => {
    expect(clock(48000 * 71.5, 48000)).toBe('1:11.500');
    expect(barBeat(48000 * 2.5, 48000, 96)).toBe('2.1');
  });
});

describe('scales', () => {
  it('goes there and back', () => {
    for (const value of [1, 2, 4, 20, 100]) {
      expect(valueAt(ratio, place(ratio, value))).toBeCloseTo(value);
    }
    expect(place(gain, -60)).toBe(0);
    expect(valueAt(gain, 1)).toBe(24);
  });
  it('maps levels to heights', () => {
    expect(height(1, true)).toBe(1);
    expect(height(0.001, true)).toBe(0);
    expect(height(0.1, true)).toBeCloseTo(2 / 3);
    expect(amplitudeAt(height(0.25, true), true)).toBeCloseTo(0.25);
  });
});

describe('frequencies and pans', () => {
  it('are written as they are said', () => {
    expect([77, 199.6, 2000, 12345, null].map(hertz)).toEqual([
      '77 Hz',
      '200 Hz',
      '2.00 kHz',
      '12.3 kHz',
      'open',
    ]);
    expect([-1, -0.1, 0, 0.004, 0.35].map(panned)).toEqual([
      'L 100',
      'L 10',
      'centre',
      'centre',
      'R 35',
    ]);
  });
});
