import { expect, test } from 'vitest';
import { grouped, hanging, shifted, tint } from './strips';
import type { Strip } from './types';

const strip = (id: string, kind: Strip['kind'], output: string | null = null): Strip =>
  ({ id, kind, output }) as Strip;
const strips = [
  strip('stomp', 'track', 'drums'),
  strip('bass', 'track', 'main'),
  strip('clap', 'track', 'drums'),
  strip('rattle', 'track', 'drums'),
  strip('voice', 'track'),
  strip('drums', 'bus', 'main'),
  strip('main', 'main'),
];
const at = (id: string): Strip => strips.find((s) => s.id === id) ?? strip(id, 'track');

test('each bus stands with what feeds it, the main bus last', () => {
  expect(grouped(strips).map((g) => [g.bus.id, ...g.strips.map((s) => s.id)])).toEqual([
    ['drums', 'stomp', 'clap', 'rattle'],
    ['main', 'bass', 'voice'],
  ]);
});

test('a strip moves among those that feed the same bus', () => {
  expect(shifted(strips, at('clap'), true)).toBe('stomp');
  expect(shifted(strips, at('stomp'), false)).toBe('rattle');
  // Behind the last of them, whatever stands there.
  expect(shifted(strips, at('clap'), false)).toBe('voice');
  const last = [...strips.slice(4), ...strips.slice(0, 4)];
  expect(shifted(last, at('clap'), false)).toBe(null);
});

test('there is no place above the first and below the last', () => {
  expect(shifted(strips, at('stomp'), true)).toBeUndefined();
  expect(shifted(strips, at('rattle'), false)).toBeUndefined();
  expect(shifted(strips, at('nobody'), true)).toBeUndefined();
});

test('a bus moves among the buses', () => {
  expect(shifted(strips, at('main'), true)).toBe('drums');
  expect(shifted(strips, at('drums'), true)).toBeUndefined();
});

test('a letter has one tint, none has none', () => {
  expect([tint('A'), tint('G'), tint('B'), tint(null)]).toEqual(['25%', '25%', '34%', '0%']);
});

test('a sound hangs on another by outputs, sends and keys', () => {
  const bare = { output: null, sends: [], chain: [] };
  const key = { source: 'branch:low' };
  const all = [
    { ...bare, id: 'bass', kind: 'track', output: 'low-bus', chain: [{ id: 'parts', kind: 'split', branches: [
      { id: 'low', chain: [] }] }] },
    { ...bare, id: 'low-bus', sends: [{ to: 'dirt', on: true }, { to: 'echo', on: false }] },
    { ...bare, id: 'pad', chain: [{ id: 'duck', kind: 'ducker', key }] },
    { ...bare, id: 'dirt', output: 'main' },
    { ...bare, id: 'lamp', output: 'glow', chain: [{ id: 'gate', kind: 'gate', key: {
      source: 'strip:bass', tap: 'in' } }] },
    { ...bare, id: 'main', kind: 'main' },
    { ...bare, id: 'voice', output: 'main' },
  ] as unknown as Strip[]; // prettier-ignore
  expect([...hanging(all, 'bass')].sort()).toEqual(['bass', 'dirt', 'low-bus', 'main', 'pad']);
  expect([...hanging(all, 'low-bus')].sort()).toEqual(['dirt', 'low-bus', 'main']);
  expect([...hanging(all, 'main')]).toEqual(['main']);
});
