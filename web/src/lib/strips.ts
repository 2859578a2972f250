/** The strips as they are listed: each bus with what feeds it, and their places. */
import { branches, elements, isSplit } from './chain';
import type { Strip } from './types';

export interface Group {
  bus: Strip;
  strips: Strip[];
}

/** Every bus with its tracks, the main bus with the rest last. */
export function grouped(strips: readonly Strip[]): Group[] {
  const tracks = strips.filter((s) => s.kind === 'track');
  const main = strips.find((s) => s.kind === 'main');
  const buses = strips.filter((s) => s.kind === 'bus');
  const found = buses.map((bus) => ({ bus, strips: tracks.filter((s) => s.output === bus.id) }));
  if (main) {
    const straight = tracks.filter((s) => s.output === null || s.output === main.id);
    found.push({ bus: main, strips: straight });
  }
  return found;
}

/**
 * Before which strip one has to stand to be one place further up or down among those that feed
 * the same bus; null: behind all; undefined: there is no such place.
 */
export function shifted(
  strips: readonly Strip[],
  strip: Strip,
  up: boolean,
): string | null | undefined {
  const groups = grouped(strips);
  const group = groups.find((g) => g.strips.some((s) => s.id === strip.id));
  const rows = group?.strips ?? groups.map((g) => g.bus);
  const at = rows.findIndex((s) => s.id === strip.id);
  if (at < 0 || (up ? at === 0 : at === rows.length - 1)) return undefined;
  const before = up ? rows[at - 1] : rows[at + 2];
  const last = rows[rows.length - 1];
  const behind = last && strips[strips.findIndex((s) => s.id === last.id) + 1];
  return before?.id ?? behind?.id ?? null;
}

/** What a strip's stages listen to: "strip:", "stage:" or "branch:" and an id, and where. */
const heard = (strip: Strip): { source: string; tap: string }[] =>
  elements(strip.chain).flatMap((e) => (isSplit(e) || !e.key ? [] : [e.key]));

/** Found once for as long as the strips are the same: every row of the desk asks for every bus. */
const known = new WeakMap<readonly Strip[], Map<string, ReadonlySet<string>>>();

/** Whose sound hangs on a strip's, itself among them: by outputs, sends and keys. */
export function hanging(strips: readonly Strip[], id: string): ReadonlySet<string> {
  const of = known.get(strips) ?? new Map<string, ReadonlySet<string>>();
  known.set(strips, of);
  const found = of.get(id) ?? hangingOn(strips, id);
  of.set(id, found);
  return found;
}

function hangingOn(strips: readonly Strip[], id: string): Set<string> {
  const found = new Set([id]);
  for (const from of found) {
    const strip = strips.find((s) => s.id === from);
    if (!strip) continue;
    const told = new Set([
      `strip:${from}`,
      ...elements(strip.chain).map((e) => `stage:${e.id}`),
      ...branches(strip.chain).map((b) => `branch:${b.id}`),
    ]);
    const output = strip.output ?? strips.find((s) => s.kind === 'main')?.id;
    if (output !== undefined) found.add(output);
    for (const send of strip.sends) if (send.on) found.add(send.to);
    // Before its chain a track hangs on nothing: who listens there does not hang on it.
    const counts = (key: { source: string; tap: string }): boolean =>
      told.has(key.source) &&
      !(strip.kind === 'track' && key.tap === 'in' && key.source === `strip:${from}`);
    for (const other of strips) if (heard(other).some(counts)) found.add(other.id);
  }
  return found;
}

/** The letters that a strip can be marked with, or none. */
export const MARKS = ['', ...'ABCDEFGHIJKLMNOPQRSTUVWXYZ'];

/** The same letter has the same tint of one hue; the letter is what tells them apart. */
export function tint(mark: string | null | undefined): string {
  return mark ? `${25 + 9 * ((mark.charCodeAt(0) - 65) % 6)}%` : '0%';
}
