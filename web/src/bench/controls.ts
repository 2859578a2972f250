import type { Control } from '../lib/types';

export function control(part: Partial<Control> & Pick<Control, 'name' | 'label' | 'doc'>): Control {
  return {
    type: 'number',
    default: 0,
    low: 0,
    high: 1,
    unit: '',
    scale: 'linear',
    step: 0.01,
    change: 'glide',
    marks: [0, 0.25, 0.5, 0.75, 1],
    choices: [],
    optional: false,
    when: {},
    fields: [],
    ...part,
  };
}

export const MIX = control({
  name: 'mix',
  label: 'Mix',
  default: 1,
  doc: 'Share of the processed sound; the rest is the dry sound, in step and in phase with it.',
});

export const POSITION = control({
  name: 'position',
  label: 'Join position',
  default: 0.5,
  doc: 'From the first branch alone (0) to the second alone (100 %).',
});

export const FADER = control({
  name: 'fader_db',
  label: 'Fader',
  low: -90,
  high: 12,
  unit: 'dB',
  scale: 'db',
  step: 0.1,
  marks: [-90, -60, -40, -20, 0, 12],
  doc: 'Level of the strip behind its chain.',
});

export const LEVER = control({
  name: 'value',
  label: 'Lever',
  doc: 'Moves several controls, each over a range of its own.',
});
