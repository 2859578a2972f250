/** What the Worker, the worklet and the page say to one another. */
import type { Report } from './types';

/** Bytes of the header: see salt_anvil.live.messages.HEADER. */
export const HEADER_BYTES = 32;

/** Sound on its way to the worklet: interleaved before left, right, after left, right. */
export interface Piece {
  type: 'piece';
  epoch: number;
  frame: number;
  sound: Float32Array<ArrayBuffer>;
}

/** How play stands; `anew` after a new connection, when nothing of before is on its way. */
export interface Stand {
  type: 'stand';
  anew?: boolean;
  epoch: number;
  playing: boolean;
}

/** How far ahead sound is computed: some of it must be there before it begins to sound. */
export interface Ready {
  type: 'ahead';
  ms: number;
}

/** Gains of what is heard: a * before + b * after. */
export interface Blend {
  type: 'blend';
  before: number;
  after: number;
}

/** From the worklet: what has been played. */
export interface Used {
  type: 'used';
  epoch: number;
  frames: number;
  frame: number;
  missed: number;
}

/** From the Worker: a block's report. */
export interface PlayedReport {
  type: 'reported';
  epoch: number;
  frame: number;
  frames: number;
  report: Report;
}

/** Splits one binary message. */
export function parse(data: ArrayBuffer): { piece: Piece; report: Report } {
  const head = new DataView(data);
  const epoch = head.getUint32(0, true);
  const frame = head.getFloat64(8, true);
  const frames = head.getUint32(16, true);
  const sound = new Float32Array(data.slice(HEADER_BYTES, HEADER_BYTES + frames * 16));
  const text = new TextDecoder().decode(data.slice(HEADER_BYTES + frames * 16));
  return { piece: { type: 'piece', epoch, frame, sound }, report: JSON.parse(text) as Report };
}
