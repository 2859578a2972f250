import { expect, test } from 'vitest';
import { leverChoices } from './levers';
import type { Kind, Strip } from './types';

const number = (name: string, change = 'glide'): unknown => ({
  name,
  label: name.toUpperCase(),
  type: 'number',
  change,
  low: 1,
  high: 9,
  fields: [],
});
const kinds = {
  gate: { controls: [number('depth'), number('wait', 'structural')] },
} as unknown as Record<string, Kind>;
const gate = { id: 'g', kind: 'gate', params: {} };
const strip = {
  id: 's',
  name: 'Drum',
  sends: [{ to: 'room' }],
  chain: [
    {
      id: 'x',
      kind: 'split',
      by: 'copies',
      phase: 'minimum',
      crossovers_hz: [],
      join: { law: 'steady' },
      branches: [{ id: 'x-0', name: 'low', chain: [gate] }],
    },
  ],
} as unknown as Strip;

test('a lever can move whatever glides, named by where it is', () => {
  const known = { kinds, crossover: undefined, title: (e: { id: string }) => e.id };
  const found = leverChoices([strip], known);
  expect(found.map((c) => `${c.owner} ${c.control}`)).toEqual([
    's fader_db',
    's pan',
    's send:room',
    'x-0 gain_db',
    'x mix',
    'x position',
    'g mix',
    'g depth',
  ]);
  expect(found.at(-1)).toMatchObject({ words: 'Drum, g: depth', low: 1, high: 9 });
});
