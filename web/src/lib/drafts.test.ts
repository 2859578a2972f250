import { describe, expect, it } from 'vitest';
import { applied } from './drafts';
import type { Session } from './types';

const stage = { id: 'c', kind: 'compressor', mix: 1, params: { ratio: 4, knee_db: 6 } };
const split = {
  id: 'p',
  kind: 'split',
  join: { law: 'steady', position: 0.5 },
  branches: [{ id: 'p-0', gain_db: 0, chain: [stage] }],
};
const model = {
  strips: [{ id: 's', fader_db: 0, sends: [{ to: 'g', gain_db: 0 }], chain: [split] }],
  levers: [{ id: 'l', value: 0 }],
} as never as Session;

describe('what is in hand', () => {
  it('shows before it is stored, wherever it stands', () => {
    const done = applied(model, [
      { type: 'set_params', stage: 'c', params: { ratio: 8 }, whole: false },
      { type: 'set_stage', stage: 'c', mix: 0.25 },
      { type: 'set_split', split: 'p', position: 0.9 },
      { type: 'set_branch', branch: 'p-0', gain_db: -3 },
      { type: 'set_send', strip: 's', to: 'g', gain_db: -9 },
      { type: 'set_strip', strip: 's', field: 'fader_db', value: -6 },
      { type: 'set_lever', lever: 'l', value: 0.7 },
    ]) as never as typeof model & { strips: { chain: (typeof split)[] }[] };
    const [strip] = done.strips;
    const [p] = strip!.chain as never as (typeof split)[];
    expect(p!.join).toEqual({ law: 'steady', position: 0.9 });
    expect(p!.branches[0]).toMatchObject({ gain_db: -3 });
    expect(p!.branches[0]!.chain[0]).toMatchObject({ mix: 0.25, params: { ratio: 8, knee_db: 6 } });
    expect(strip).toMatchObject({ fader_db: -6, sends: [{ to: 'g', gain_db: -9 }] });
    expect(done.levers[0]).toMatchObject({ value: 0.7 });
    expect(model.levers[0]).toMatchObject({ value: 0 });
  });
});
