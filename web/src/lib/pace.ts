/** Time between two pictures of what plays, ms. */
export const TICK_MS = 50;
export const LAZIEST_MS = 400;
/** Whoever asks for less motion sees five pictures a second. */
const CALM_MS = 200;

/** How long to wait for the next picture: twice what one takes to draw, told slowly downwards. */
export function nextTick(before: number, tookMs: number, calm: boolean): number {
  return Math.min(Math.max(calm ? CALM_MS : TICK_MS, 2 * tookMs, 0.8 * before), LAZIEST_MS);
}
