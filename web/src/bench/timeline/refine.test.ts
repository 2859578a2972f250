import { describe, expect, it } from 'vitest';
import type { Picture } from '../../lib/types';
import { Refiner, type Played } from './refine';

const COLUMNS = 4;
const CELLS = 5;

/** Four columns of five cells each; every cell between -0.5 and 0.5, 3 dB taken. */
function picture(): Picture {
  const pairs = (): Float32Array =>
    new Float32Array(2 * COLUMNS).map((_, i) => (i % 2 ? 0.5 : -0.5));
  return {
    begin: 0,
    end: COLUMNS * CELLS * 64,
    columns: COLUMNS,
    done: COLUMNS,
    detector: false,
    makeup_db: 0,
    before: pairs(),
    after: pairs(),
    body: new Float32Array(COLUMNS).fill(0.2),
    reduction: new Float32Array(COLUMNS).fill(3),
    level: new Float32Array(0),
  };
}

function played(frame: number, cells: number, high = 0.5, taken = 3): Played {
  const each = <T>(value: T): T[] => new Array<T>(cells).fill(value);
  const pair = [-0.5, high];
  return {
    frame,
    before: each([-0.5, 0.5]),
    after: each(pair),
    body: each(0.3),
    taken: each(taken),
    level: [],
  };
}

describe('what was played', () => {
  it('changes nothing where it is what the picture shows', () => {
    const shown = picture();
    expect(new Refiner().take(shown, played(0, 20))).toBe(false);
    expect(shown).toEqual(picture());
  });

  it('is put in column by column, when the next one begins', () => {
    const [shown, refiner] = [picture(), new Refiner()];
    expect(refiner.take(shown, played(0, 5))).toBe(false);
    expect(refiner.take(shown, played(320, 5, 0.25, 6))).toBe(false);
    expect(refiner.take(shown, played(640, 1, 0.25, 6))).toBe(true);
    expect([...shown.after.slice(0, 6)]).toEqual([-0.5, 0.5, -0.5, 0.25, -0.5, 0.5]);
    expect([...shown.reduction]).toEqual([3, 6, 3, 3]);
    expect(shown.body[0]).toBeCloseTo(0.2);
    expect(shown.body[1]).toBeCloseTo(0.3);
  });

  it('of the first column of a run takes nothing away: sound fades in', () => {
    const [shown, refiner] = [picture(), new Refiner()];
    refiner.take(shown, played(0, 5, 0.1));
    expect(refiner.take(shown, played(320, 1))).toBe(false);
    expect(shown).toEqual(picture());
  });

  it('of a part of a column only adds what goes beyond', () => {
    const [shown, refiner] = [picture(), new Refiner()];
    refiner.take(shown, played(128, 3, 0.25));
    expect(refiner.take(shown, played(320, 2, 0.75))).toBe(false);
    expect(refiner.take(shown, played(0, 1))).toBe(true);
    expect([...shown.after.slice(0, 4)]).toEqual([-0.5, 0.5, -0.5, 0.75]);
    expect(shown.body[1]).toBeCloseTo(0.2);
  });

  it('belongs, where a cell lies over a border, to the column behind it', () => {
    const shown = { ...picture(), end: COLUMNS * 100 };
    const refiner = new Refiner();
    // Cells end at 64, 128, 192, 256: columns 0, 1, 1, 2.
    refiner.take(shown, played(0, 1));
    expect(refiner.take(shown, played(64, 1, 0.9))).toBe(false);
    refiner.take(shown, played(128, 2));
    expect([...shown.after.slice(0, 6)].map((v) => Math.abs(v))).toEqual([
      0.5,
      0.5,
      0.5,
      expect.closeTo(0.9),
      0.5,
      0.5,
    ]);
  });

  it('takes nothing away where cells are missing, or where nothing is told', () => {
    const [shown, refiner] = [picture(), new Refiner()];
    refiner.take(shown, played(0, 5));
    refiner.take(shown, played(320, 1, 0.25));
    refiner.take(shown, played(512, 2, 0.25));
    refiner.take(shown, { ...played(640, 5), taken: [] });
    refiner.take(shown, played(960, 1));
    expect(shown).toEqual(picture());
  });

  it('goes into the picture that is there now', () => {
    const [old, shown, refiner] = [picture(), picture(), new Refiner()];
    refiner.take(old, played(0, 5, 0.9));
    expect(refiner.take(shown, played(320, 1))).toBe(false);
    expect(shown).toEqual(picture());
  });
});
