import { branches, elements, isSplit } from './chain';
import { within } from './controls';
import type { Control, Element, Kind, Strip } from './types';

/** A control that a lever can move, and between what at first. */
export interface LeverChoice {
  owner: string;
  control: string;
  words: string;
  low: number;
  high: number;
}

interface Known {
  kinds: Record<string, Kind>;
  crossover: Control | undefined;
  title: (element: Element) => string;
}

/** Every control of the strips that a lever can move. */
export function leverChoices(strips: Strip[], known: Known): LeverChoice[] {
  return strips.flatMap((strip) => [
    ...ofStrip(strip),
    ...branches(strip.chain).map((b) => ({
      owner: b.id,
      control: 'gain_db',
      words: `${strip.name}, ${b.name}: gain`,
      low: -12,
      high: 6,
    })),
    ...elements(strip.chain).flatMap((e) => ofElement(e, strip, known)),
  ]);
}

function ofStrip(strip: Strip): LeverChoice[] {
  const at = (control: string, words: string, low: number, high: number): LeverChoice => ({
    owner: strip.id,
    control,
    words: `${strip.name}: ${words}`,
    low,
    high,
  });
  return [
    at('fader_db', 'fader', -24, 0),
    at('pan', 'pan', -1, 1),
    ...strip.sends.map((s) => at(`send:${s.to}`, `send to ${s.to}`, -24, 0)),
  ];
}

function ofElement(element: Element, strip: Strip, known: Known): LeverChoice[] {
  const before = `${strip.name}, ${known.title(element)}`;
  const at = (control: string, label: string, low: number, high: number): LeverChoice => ({
    owner: element.id,
    control,
    words: `${before}: ${label}`,
    low,
    high,
  });
  const of = (controls: Control[]): LeverChoice[] =>
    controls
      .filter((c) => c.type === 'number' && c.change !== 'structural')
      .map((c) => at(c.name, c.label.toLowerCase(), c.low ?? 0, c.high ?? 1));
  const kind = isSplit(element) ? undefined : known.kinds[element.kind];
  const own = isSplit(element)
    ? element.join.law === 'sum'
      ? []
      : [at('position', 'position', 0, 1)]
    : of(kind?.controls ?? []);
  // As one long filter what lies within its lists stands still.
  const phase = isSplit(element) ? element.phase : element.params['phase'];
  const moves = (phase ?? 'minimum') === 'minimum';
  const inner = moves ? of(within(element, kind, known.crossover)) : [];
  return [at('mix', 'mix', 0, 1), ...own, ...inner];
}
