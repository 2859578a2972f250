import { figure } from './figures';
import type { Heard, Trial } from './types';

/** What took part in a blind test, in words. */
export function said(what: Heard): string {
  return what === 'in' ? 'before' : what;
}

/** How likely guessing does as well, without its sign. */
export function percent(chance: number): string {
  return figure(100 * chance, chance < 0.001 ? 2 : 1);
}

export function score(trial: Trial): string {
  const counted = `${trial.right} of ${trial.rounds}`;
  return trial.best ? `${said(trial.best)} ${counted}` : counted;
}
