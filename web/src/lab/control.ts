import type { Control } from '../lib/types';

/** A control of Lab's own, drawn like a stage's. */
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
