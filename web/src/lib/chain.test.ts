import { describe, expect, it } from 'vitest';
import { branches, ceilingOf, elements, home, keyName, parent, rows, sharedKind } from './chain';
import type { Element, Split, Stage, Strip } from './types';

const stage = (id: string, kind = 'compressor'): Stage =>
  ({ id, kind, params: {}, key: { source: 'own', low_hz: null, high_hz: null } }) as never;
const split = (id: string, ...chains: Element[][]): Split =>
  ({
    id,
    kind: 'split',
    by: 'copies',
    branches: chains.map((chain, i) => ({ id: `${id}-${i}`, name: `b${i}`, chain })),
  }) as never;
const inner = split('in', [stage('x')], []);
const outer = split('out', [stage('a', 'trim'), stage('b')], [inner]);
const strip = { id: 's', name: 'Drum', chain: [stage('first'), outer] } as never as Strip;

describe('chains', () => {
  it('finds what is nested', () => {
    expect(elements(strip.chain).map((e) => e.id)).toEqual(['first', 'out', 'a', 'b', 'in', 'x']);
    expect(branches(strip.chain).map((b) => b.id)).toEqual(['out-0', 'out-1', 'in-0', 'in-1']);
    expect(home(strip, 'x')?.place).toBe('in-0');
    expect(home(strip, 'first')?.place).toBe('s');
    expect(parent(strip, 'in-1')?.id).toBe('in');
  });

  it('counts staves of open splits', () => {
    expect(rows(strip.chain, () => false)).toBe(1);
    expect(rows(strip.chain, (id) => id === 'out')).toBe(2);
    expect(rows(strip.chain, () => true)).toBe(3);
  });

  it('names keys and the kind that branches share', () => {
    expect(keyName('branch:out-1', [strip])).toBe('Drum, b1');
    expect(keyName('strip:s', [strip])).toBe('Drum');
    expect(sharedKind(outer)).toBe('compressor');
  });

  it('knows the wall with which a branch ends', () => {
    const wall = { id: 'w', kind: 'limiter', params: { ceiling_db: -3 } } as unknown as Stage;
    const open = branches(strip.chain)[0];
    if (!open) throw new Error('the strip has branches');
    expect(ceilingOf(open)).toBeNull();
    expect(ceilingOf({ ...open, chain: [...open.chain, wall] })).toBe(-3);
    // Only what stands last holds everything.
    expect(ceilingOf({ ...open, chain: [wall, ...open.chain] })).toBeNull();
  });
});
