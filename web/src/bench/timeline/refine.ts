/** Cells that were played, put into a picture column by column, where they differ from it. */
import type { Picture } from '../../lib/types';

const CELL = 64;
/** What nobody sees: a share of an amplitude (0.1 dB), an amplitude, and dB. */
const SHARE = 0.01;
const TINY = 1e-4;
const FINE_DB = 0.1;
/** Nothing is told. */
const NO_LEVEL = -300;

/** A block as it was played: [low, high] of each cell, and figures of each cell. */
export interface Played {
  frame: number;
  before: number[][];
  after: number[][];
  body: number[];
  taken: number[];
  level: number[];
}

/** What the cells of one column were, as far as they were played. */
interface Column {
  at: number;
  /** It was played right behind the one before it. */
  begun: boolean;
  before: [number, number];
  after: [number, number];
  power: number;
  cells: number;
  taken: number;
  level: number;
}

export class Refiner {
  private picture: Picture | null = null;
  private column: Column | null = null;

  /** Takes a block that was played; says whether the picture has to be drawn again. */
  take(picture: Picture, played: Played): boolean {
    const perColumn = (picture.end - picture.begin) / picture.columns;
    if (picture !== this.picture) this.column = null;
    this.picture = picture;
    if (perColumn < CELL) return false;
    let changed = false;
    played.after.forEach((after, cell) => {
      // As the analysis does: a cell over a border belongs to the column behind it.
      const end = played.frame + (cell + 1) * CELL - picture.begin;
      const at = Math.ceil(end / perColumn) - 1;
      if (at < 0 || at >= picture.done) return;
      if (this.column?.at !== at) {
        const before = this.column?.at;
        changed = this.finish(picture, at) || changed;
        // Where play begins or jumps the sound fades in: that column is not the stage's.
        this.column = begin(at, before === at - 1);
      }
      if (this.column) add(this.column, played, cell, after);
    });
    return changed;
  }

  /** Puts the column that is over into the picture, if it looks different. */
  private finish(picture: Picture, next: number): boolean {
    const { column } = this;
    if (!column) return false;
    const cells = Math.floor((picture.end - picture.begin) / picture.columns / CELL);
    const whole = column.begun && next === column.at + 1 && column.cells >= cells;
    const { at } = column;
    const level = at < picture.level.length && column.level > NO_LEVEL;
    // Of a part only what goes beyond what is known is news.
    const before = pair(picture.before, at, column.before, whole);
    const after = pair(picture.after, at, column.after, whole);
    const known = picture.reduction[at] ?? 0;
    const tells = column.taken > NO_LEVEL;
    const taken = tells && whole ? column.taken : Math.max(column.taken, known);
    const loud = whole ? column.level : Math.max(column.level, picture.level[at] ?? NO_LEVEL);
    const same =
      alike(picture.before, at, before) &&
      alike(picture.after, at, after) &&
      Math.abs(known - taken) < FINE_DB &&
      (!level || Math.abs((picture.level[at] ?? NO_LEVEL) - loud) < FINE_DB);
    if (same) return false;
    picture.before.set(before, 2 * at);
    picture.after.set(after, 2 * at);
    if (at < picture.reduction.length) picture.reduction[at] = taken;
    if (level) picture.level[at] = loud;
    if (whole && at < picture.body.length)
      picture.body[at] = Math.sqrt(column.power / column.cells);
    return true;
  }
}

function begin(at: number, begun: boolean): Column {
  const nothing = (): [number, number] => [Infinity, -Infinity];
  const [before, after] = [nothing(), nothing()];
  return { at, begun, before, after, power: 0, cells: 0, taken: NO_LEVEL, level: NO_LEVEL };
}

function add(column: Column, played: Played, cell: number, after: number[]): void {
  widen(column.before, played.before[cell] ?? []);
  widen(column.after, after);
  column.power += (played.body[cell] ?? 0) ** 2;
  column.cells += 1;
  column.taken = Math.max(column.taken, played.taken[cell] ?? NO_LEVEL);
  column.level = Math.max(column.level, played.level[cell] ?? NO_LEVEL);
}

function widen(pair: [number, number], [low = 0, high = 0]: number[]): void {
  pair[0] = Math.min(pair[0], low);
  pair[1] = Math.max(pair[1], high);
}

function pair(
  known: Float32Array,
  at: number,
  [low, high]: [number, number],
  whole: boolean,
): [number, number] {
  if (whole) return [low, high];
  return [Math.min(known[2 * at] ?? 0, low), Math.max(known[2 * at + 1] ?? 0, high)];
}

function alike(known: Float32Array, at: number, pair: [number, number]): boolean {
  return pair.every((value, side) => {
    const old = known[2 * at + side] ?? 0;
    return Math.abs(old - value) <= SHARE * Math.max(Math.abs(old), Math.abs(value)) + TINY;
  });
}
