/** The time strip on a canvas: what comes in, what goes out, what is taken away. */
import { height, toGain } from '../../lib/scale';
import type { Kind, Picture } from '../../lib/types';

export interface Look {
  width: number;
  height: number;
  /** Height of the row of reduction at the foot. */
  foot: number;
  decibels: boolean;
  /** The level on the middle line. */
  floor: number;
  /** dB at the top of the row of reduction. */
  most: number;
  colour: (name: string) => string;
  /** How it is marked where something was taken away, beside the hatching. */
  marked: Kind['marked'];
}

const WORKED_DB = 0.5;
const CUT_DB = 0.1;
const PEAK = 3;

export function draw(canvas: CanvasRenderingContext2D, picture: Picture, look: Look): void {
  canvas.clearRect(0, 0, look.width, look.height);
  const body = look.height - look.foot;
  drawGrid(canvas, look, body);
  const faded = picture.detector && picture.level.length > 0;
  canvas.globalAlpha = faded ? 0.4 : 1;
  drawWave(canvas, picture, look, body);
  canvas.globalAlpha = 1;
  if (faded) drawLevel(canvas, picture, look, body);
  drawReduction(canvas, picture, look);
  if (look.marked === 'stretches') drawSpans(canvas, picture, look, body);
  if (look.marked === 'peaks') drawPeaks(canvas, picture, look, body);
}

/** Brackets over the stretches in which something was taken away. */
function drawSpans(
  canvas: CanvasRenderingContext2D,
  picture: Picture,
  look: Look,
  body: number,
): void {
  const step = look.width / picture.columns;
  canvas.strokeStyle = look.colour('madder');
  canvas.lineWidth = 1.5;
  canvas.beginPath();
  for (const [from, to] of spansOf(picture.reduction)) {
    const left = from * step + 0.5;
    const right = Math.max(to * step - 0.5, left + 2);
    canvas.moveTo(left, body - 2);
    canvas.lineTo(left, body - 7);
    canvas.lineTo(right, body - 7);
    canvas.lineTo(right, body - 2);
  }
  canvas.stroke();
}

/** What is cut off the peaks, wide enough to be seen where a peak is a single column. */
function drawPeaks(
  canvas: CanvasRenderingContext2D,
  picture: Picture,
  look: Look,
  body: number,
): void {
  const step = look.width / picture.columns;
  const before = edges(picture.before, look, body, toGain(picture.makeup_db));
  const after = edges(picture.after, look, body);
  canvas.fillStyle = look.colour('madder');
  for (let i = 0; i < picture.done; i++) {
    if ((picture.reduction[i] ?? 0) < CUT_DB) continue;
    const left = (i + 0.5) * step - PEAK / 2;
    const [top, cut] = [before.up[i] ?? 0, after.up[i] ?? 0];
    if (cut > top)
      canvas.fillRect(left, Math.min(top, cut - PEAK), PEAK, Math.max(cut - top, PEAK));
    const [foot, below] = [before.down[i] ?? 0, after.down[i] ?? 0];
    if (foot > below) canvas.fillRect(left, below, PEAK, Math.max(foot - below, PEAK));
  }
}

/** From which column to which something was taken away; gaps of two columns are bridged. */
export function spansOf(reduction: ArrayLike<number>): [number, number][] {
  const found: [number, number][] = [];
  for (let i = 0; i < reduction.length; i++) {
    if ((reduction[i] ?? 0) < WORKED_DB) continue;
    const last = found[found.length - 1];
    if (last && i - last[1] <= 2) last[1] = i + 1;
    else found.push([i, i + 1]);
  }
  return found;
}

function drawGrid(canvas: CanvasRenderingContext2D, look: Look, body: number): void {
  canvas.strokeStyle = look.colour('hair');
  canvas.lineWidth = 1;
  canvas.setLineDash([2, 3]);
  const middle = body / 2;
  for (const db of marks(look.decibels, look.floor)) {
    const y =
      Math.round(middle - middle * height(10 ** (db / 20), look.decibels, look.floor)) + 0.5;
    for (const line of [y, body - y]) {
      canvas.beginPath();
      canvas.moveTo(0, line);
      canvas.lineTo(look.width, line);
      canvas.stroke();
    }
  }
  canvas.setLineDash([]);
}

/** Levels that have a line and a figure in the margin. */
export function marks(decibels: boolean, floor: number): number[] {
  if (!decibels) return [-3, -6, -12];
  return floor > -36 ? [-6, -12, -18, -24] : [-12, -24, -36];
}

/** For each column the place of both waveforms, above and below the middle. */
function edges(
  pairs: Float32Array,
  look: Look,
  body: number,
  gain = 1,
): { up: number[]; down: number[] } {
  const middle = body / 2;
  const up: number[] = [];
  const down: number[] = [];
  for (let i = 0; i * 2 < pairs.length; i++) {
    up.push(
      middle -
        middle * height(gain * Math.max(pairs[i * 2 + 1] ?? 0, 0), look.decibels, look.floor),
    );
    down.push(
      middle + middle * height(gain * Math.min(pairs[i * 2] ?? 0, 0), look.decibels, look.floor),
    );
  }
  return { up, down };
}

function drawWave(
  canvas: CanvasRenderingContext2D,
  picture: Picture,
  look: Look,
  body: number,
): void {
  const step = look.width / picture.columns;
  const before = edges(picture.before, look, body);
  const after = edges(picture.after, look, body);
  // What is not analysed yet: the recording alone, pale.
  canvas.fillStyle = look.colour('before');
  for (let i = picture.done; i < before.up.length; i++) {
    const up = before.up[i] ?? 0;
    canvas.fillRect(i * step, up, step, Math.max((before.down[i] ?? 0) - up, 1));
  }
  // Peaks: a light fill with an outline; hits stand out of the body of the level.
  canvas.fillStyle = look.colour('before');
  canvas.globalAlpha *= 0.55;
  for (let i = 0; i < picture.done; i++) {
    const up = after.up[i] ?? 0;
    canvas.fillRect(i * step, up, step + 0.3, Math.max((after.down[i] ?? 0) - up, 1));
  }
  canvas.globalAlpha = Math.min(canvas.globalAlpha / 0.55, 1);
  outline(canvas, picture.done, step, after.up, look, 'slate');
  outline(canvas, picture.done, step, after.down, look, 'slate');
  drawBody(canvas, picture, look, body);
  // What the reduction took: up to where the sound would stand with the make-up alone.
  const lifted = edges(picture.before, look, body, toGain(picture.makeup_db));
  hatch(canvas, picture.done, step, lifted, after, look);
  outline(canvas, picture.done, step, before.up, look, 'edge');
  outline(canvas, picture.done, step, before.down, look, 'edge');
}

/** The level as a solid body. */
function drawBody(
  canvas: CanvasRenderingContext2D,
  picture: Picture,
  look: Look,
  body: number,
): void {
  const step = look.width / picture.columns;
  const middle = body / 2;
  canvas.fillStyle = look.colour('slate');
  for (let i = 0; i < picture.done; i++) {
    const size = middle * height(picture.body[i] ?? 0, look.decibels, look.floor);
    // At the zoom of samples the outline is the line itself, and the body goes.
    if (size > 0 && picture.end - picture.begin > 64 * picture.columns)
      canvas.fillRect(i * step, middle - size, step + 0.3, 2 * size);
    else canvas.fillRect(i * step, middle - 0.5, step + 0.3, 1);
  }
}

function outline(
  canvas: CanvasRenderingContext2D,
  count: number,
  step: number,
  line: number[],
  look: Look,
  colour: string,
): void {
  canvas.strokeStyle = look.colour(colour);
  canvas.lineWidth = colour === 'edge' ? 0.75 : 1;
  canvas.beginPath();
  for (let i = 0; i < count; i++) canvas.lineTo((i + 0.5) * step, line[i] ?? 0);
  canvas.stroke();
}

/** Madder, hatched: what was taken away. */
function hatch(
  canvas: CanvasRenderingContext2D,
  count: number,
  step: number,
  before: { up: number[]; down: number[] },
  after: { up: number[]; down: number[] },
  look: Look,
): void {
  canvas.save();
  canvas.beginPath();
  for (let i = 0; i < count; i++) {
    const gone = (after.up[i] ?? 0) - (before.up[i] ?? 0);
    if (gone > 0.5) canvas.rect(i * step, before.up[i] ?? 0, step + 0.3, gone);
    const below = (before.down[i] ?? 0) - (after.down[i] ?? 0);
    if (below > 0.5) canvas.rect(i * step, after.down[i] ?? 0, step + 0.3, below);
  }
  canvas.clip();
  canvas.fillStyle = look.colour('madder-soft');
  canvas.globalAlpha *= 0.35;
  canvas.fillRect(0, 0, look.width, look.height);
  canvas.globalAlpha = Math.min(canvas.globalAlpha / 0.35, 1);
  canvas.strokeStyle = look.colour('madder');
  canvas.lineWidth = 1;
  canvas.beginPath();
  for (let x = -look.height; x < look.width; x += 4) {
    canvas.moveTo(x, look.height);
    canvas.lineTo(x + look.height, 0);
  }
  canvas.stroke();
  canvas.restore();
}

function drawLevel(
  canvas: CanvasRenderingContext2D,
  picture: Picture,
  look: Look,
  body: number,
): void {
  const step = look.width / picture.columns;
  const middle = body / 2;
  for (const side of [-1, 1]) {
    canvas.strokeStyle = look.colour('key');
    canvas.lineWidth = side < 0 ? 1.5 : 0.75;
    canvas.beginPath();
    picture.level.forEach((db, i) => {
      const y =
        middle + side * middle * height(10 ** (Math.max(db, -120) / 20), look.decibels, look.floor);
      canvas.lineTo((i + 0.5) * step, y);
    });
    canvas.stroke();
  }
}

function drawReduction(canvas: CanvasRenderingContext2D, picture: Picture, look: Look): void {
  const step = look.width / picture.columns;
  const top = look.height - look.foot;
  canvas.strokeStyle = look.colour('hair');
  canvas.beginPath();
  canvas.moveTo(0, top + 0.5);
  canvas.lineTo(look.width, top + 0.5);
  canvas.stroke();
  canvas.fillStyle = look.colour('madder');
  const room = look.foot - 4;
  picture.reduction.forEach((db, i) => {
    const size = Math.min(db / look.most, 1) * room;
    if (size > 0) canvas.fillRect(i * step, look.height - size, step + 0.3, size);
  });
}

/** What comes in alone, for a blind test: nothing tells what stands. */
export function untouched(picture: Picture): Picture {
  const none = new Float32Array(0);
  const { before } = picture;
  const gone = { body: none, reduction: none, level: none, detector: false, makeup_db: 0 };
  return { ...picture, ...gone, after: before };
}

/** Round dB at the top of the reduction's row: 6, 12, 24 … */
export function roof(reduction: Float32Array): number {
  const most = reduction.reduce((a, b) => Math.max(a, b), 0);
  return [6, 12, 24, 36].find((db) => most <= db) ?? 60;
}
