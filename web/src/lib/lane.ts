/** How the values of a control lie on its automation, and how they are told. */
import { range } from './controls';
import { figure, panned } from './figures';
import { shareIn, valueIn, type Range } from './scale';
import type { Control, Point } from './types';

export interface LaneScale extends Range {
  title: string;
  unit: string;
  /** What whole numbers mean, of a choice. */
  words: string[];
  pan: boolean;
}

export function laneScale(name: string, control: Control | null | undefined): LaneScale {
  return {
    ...(control ? range(control) : { low: 0, high: 1, words: [] }),
    title: control?.label ?? name,
    unit: control?.unit ?? '',
    log: control?.scale === 'log',
    pan: name === 'pan',
  };
}

/** Where a value lies between the lowest and the highest, 0 to 1. */
export function shareOf(scale: LaneScale, value: number): number {
  return Math.min(Math.max(shareIn(scale, value), 0), 1);
}

/** The value at a share of the way, 0 to 1; a whole number of a choice. */
export function valueOf(scale: LaneScale, share: number): number {
  const value = valueIn(scale, share);
  return scale.words.length ? Math.round(value) : Number(value.toPrecision(4));
}

export function shown(scale: LaneScale, value: number): string {
  if (scale.words.length) return scale.words[Math.round(value)] ?? '';
  if (scale.pan) return panned(value);
  if (inPercent(scale)) return `${figure(value * 100, 0)} %`;
  return `${figure(value, Math.abs(value) >= 100 ? 0 : 1)} ${scale.unit}`.trim();
}

/** A bare number of at most 1 is a share. */
export function inPercent(scale: LaneScale): boolean {
  return scale.unit === '' && scale.high <= 1;
}

const SHAPES = ['straight', 'curved', 'stepped'] as const;

/** The points with another one in its order, and where it is. */
export function pointAdded(points: readonly Point[], fresh: Point): [Point[], number] {
  const all = [...points, fresh].sort((a, b) => a.at_s - b.at_s);
  return [all, all.indexOf(fresh)];
}

/** The points with one at another place, which its neighbours and the song's end bound. */
export function pointMoved(
  points: readonly Point[],
  which: number,
  to: { at_s: number; value: number },
  end_s: number,
): Point[] {
  const earliest = points[which - 1]?.at_s ?? 0;
  const latest = points[which + 1]?.at_s ?? end_s;
  const at_s = Math.min(Math.max(to.at_s, earliest), latest);
  return points.map((p, i) => (i === which ? { ...p, value: to.value, at_s } : p));
}

/** The points with the next shape of the way behind one. */
export function pointShaped(points: readonly Point[], which: number): Point[] {
  return points.map((p, i) => {
    const next = SHAPES[(SHAPES.indexOf(p.shape) + 1) % SHAPES.length] ?? 'straight';
    return i === which ? { ...p, shape: next } : p;
  });
}

/** The way through points as lines, each a time in seconds and a value; curves as straight. */
export function cornersOf(points: readonly Point[]): [number, number][] {
  return points.flatMap((p, i): [number, number][] => {
    const before = points[i - 1];
    const corner: [number, number] = [p.at_s, p.value];
    return before?.shape === 'stepped' ? [[p.at_s, before.value], corner] : [corner];
  });
}
