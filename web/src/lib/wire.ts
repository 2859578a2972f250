/** What the Worker, the worklet and the page say to one another. */
import type { Report } from './types';

/** Bytes of the header: see salt_anvil.live.messages.HEADER. */
export const HEADER_BYTES = 32;

/** Sound on its way to the worklet: interleaved before left, right, after left, right. */
export interface Piece {
  epoch: number;
  /** It begins so many frames before the end of what was sent, in whose place it comes, changed. */
  again: number;
  frame: number;
  sound: Float32Array<ArrayBuffer>;
}

/** What came in one message. */
export interface Pieces {
  type: 'pieces';
  pieces: Piece[];
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

/** From the Worker: the reports of what came in one message. */
export interface Reported {
  type: 'reported';
  reports: PlayedReport[];
}

/** A block's report. */
export interface PlayedReport {
  epoch: number;
  again: number;
  frame: number;
  frames: number;
  report: Report;
}

/** Splits one binary message into its blocks. */
export function parse(data: ArrayBuffer): { piece: Piece; report: Report }[] {
  const head = new DataView(data);
  const text = new TextDecoder();
  const found = [];
  for (let at = 0; at < data.byteLength;) {
    const epoch = head.getUint32(at, true);
    const again = head.getUint32(at + 4, true);
    const frame = head.getFloat64(at + 8, true);
    const begin = at + HEADER_BYTES;
    const end = begin + 16 * head.getUint32(at + 16, true);
    const told = head.getUint32(at + 20, true);
    const sound = new Float32Array(data.slice(begin, end));
    at = end + told;
    const report = JSON.parse(text.decode(new Uint8Array(data, end, told))) as Report;
    found.push({ piece: { epoch, again, frame, sound }, report });
  }
  return found;
}
