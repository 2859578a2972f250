/** Plays pieces in order; switches between before, after and their difference within 10 ms. */
import type { Blend, Piece, Pieces, Ready, Stand, Used } from './wire';

declare const sampleRate: number;
declare class AudioWorkletProcessor {
  readonly port: MessagePort;
}
declare function registerProcessor(
  name: string,
  processor: new (options?: unknown) => AudioWorkletProcessor,
): void;

const BLOCK = 1024;
/** Nobody waits for more than so many blocks; that many where the machine can hardly follow. */
const MOST_FIRST = 12;
/** Frames over which sound that comes once more takes the place of what it was. */
const FADE = 128;
/** What has been played is told after so much of the time ahead, so many seconds at most. */
const SHARE_TOLD = 1 / 8;
const MOST_TOLD_S = 0.026;

/** `record` sends what is played back to the page, with the frame at which it begins. */
type FromPage = Blend | { type: 'worker'; port: MessagePort } | { type: 'record'; on: boolean };

function frames(pieces: Piece[]): number {
  return pieces.reduce((sum, piece) => sum + piece.sound.length / 4, 0);
}

/** Lets a sound begin as another, which begins at the same frame. */
function fadeIn(sound: Float32Array, was: Float32Array): void {
  const count = Math.min(sound.length, was.length, 4 * FADE);
  for (let i = 0; i < count; i++) {
    const share = (Math.floor(i / 4) + 1) / (count / 4 + 1);
    sound[i] = share * (sound[i] ?? 0) + (1 - share) * (was[i] ?? 0);
  }
}

/** Lets a sound go on from the last frame of another, where its own would have been a third. */
function goOn(sound: Float32Array, from: Float32Array, own: Float32Array): void {
  const count = Math.min(sound.length, 4 * FADE);
  for (let i = 0; i < count; i++) {
    const share = 1 - (Math.floor(i / 4) + 1) / (count / 4 + 1);
    sound[i] = (sound[i] ?? 0) + share * ((from[i % 4] ?? 0) - (own[i % 4] ?? 0));
  }
}

class Player extends AudioWorkletProcessor {
  private queue: Piece[] = [];
  private next: Piece[] = [];
  private offset = 0;
  /** Up to where, in frames of this epoch, what waits has come last. */
  private changedUntil = 0;
  private epoch = 0;
  private playing = false;
  private running = false;
  private fade = 0;
  private leaving = false;
  private used = 0;
  private reported = 0;
  private tellEvery = 512;
  private missed = 0;
  /** Something was missed: it is told at once, while what is on its way is still little. */
  private urgent = false;
  /** Frames that must wait before play begins, and begins again. */
  private first = 4 * BLOCK;
  private extra = 0;
  private before = { now: 0, to: 0 };
  private after = { now: 1, to: 1 };
  private worker: MessagePort | null = null;
  private recording = false;
  private readonly jump = 1 / (0.005 * sampleRate);
  private readonly glide = 1 / (0.01 * sampleRate);

  constructor() {
    super();
    this.port.onmessage = (e: MessageEvent<FromPage>) => {
      const message = e.data;
      if (message.type === 'record') {
        this.recording = message.on;
      } else if (message.type === 'blend') {
        this.before.to = message.before;
        this.after.to = message.after;
      } else {
        this.worker = message.port;
        this.worker.onmessage = (m: MessageEvent<Pieces | Stand | Ready>) => this.take(m.data);
      }
    };
  }

  private take(message: Pieces | Stand | Ready): void {
    if (message.type === 'ahead') {
      const frames = (message.ms / 1000) * sampleRate;
      this.first = Math.min(Math.max(Math.round(frames / BLOCK / 2), 2), MOST_FIRST) * BLOCK;
      this.tellEvery = Math.min(Math.max(SHARE_TOLD * frames, 512), MOST_TOLD_S * sampleRate);
    } else if (message.type === 'stand') {
      this.playing = message.playing;
      if (message.epoch !== this.epoch || message.anew) this.leave(message.epoch);
    } else {
      for (const piece of message.pieces) {
        // What comes, comes in order: another epoch is a newer one, of whichever engine.
        if (piece.epoch !== this.epoch) this.leave(piece.epoch);
        this.put(piece);
      }
    }
  }

  /** Puts a piece behind all others, or in the place of what it was, as far as that has not
   *  sounded. Where sound goes over into another it does so within FADE frames. */
  private put(piece: Piece): void {
    const queue = this.leaving ? this.next : this.queue;
    const was = this.takeOut(queue, piece.again);
    const late = piece.again - frames(was);
    const sound = piece.sound.subarray(4 * late);
    const at = (this.leaving ? 0 : this.used) + frames(queue) - this.usedOf(queue);
    if (was[0] && at !== this.changedUntil) fadeIn(sound, was[0].sound);
    const last = this.dropFirst(was, sound.length / 4);
    if (sound.length > 0) {
      queue.push({ ...piece, frame: piece.frame + late, sound });
      this.changedUntil = at + sound.length / 4;
    }
    // Should nothing more come in time, what was sent before goes on from here.
    if (was[0] && last) goOn(was[0].sound, sound.subarray(-4), last);
    queue.push(...was);
  }

  private usedOf(queue: Piece[]): number {
    return queue === this.queue ? this.offset : 0;
  }

  /** Takes so many of the last frames out that wait, or as many as there are. */
  private takeOut(queue: Piece[], count: number): Piece[] {
    const taken: Piece[] = [];
    for (let left = count; left > 0;) {
      const last = queue.pop();
      if (!last) break;
      const used = queue.length === 0 ? this.usedOf(queue) : 0;
      const kept = Math.max(last.sound.length / 4 - left, used);
      left -= last.sound.length / 4 - kept;
      taken.unshift({ ...last, frame: last.frame + kept, sound: last.sound.subarray(4 * kept) });
      if (kept > used) queue.push({ ...last, sound: last.sound.subarray(0, 4 * kept) });
      else if (used > 0) this.offset = 0;
    }
    return taken;
  }

  /** Drops so many of the first frames; returns the last one of them. */
  private dropFirst(pieces: Piece[], count: number): Float32Array | null {
    let end = null;
    for (let left = count; left > 0;) {
      const first = pieces.shift();
      if (!first) break;
      const gone = Math.min(left, first.sound.length / 4);
      left -= gone;
      end = first.sound.subarray(4 * gone - 4, 4 * gone);
      const sound = first.sound.subarray(4 * gone);
      if (sound.length > 0) pieces.unshift({ ...first, frame: first.frame + gone, sound });
    }
    return end;
  }

  /** A jump: what is playing fades out over 5 ms, then the new epoch fades in. */
  private leave(epoch: number): void {
    this.epoch = epoch;
    this.changedUntil = 0;
    this.next = [];
    this.leaving = this.running && this.queue.length > 0;
    if (!this.leaving) this.enter();
  }

  private enter(): void {
    this.queue = this.next;
    this.next = [];
    this.offset = 0;
    this.leaving = false;
    this.running = false;
    this.fade = 0;
    this.used = 0;
    this.reported = 0;
    this.extra = 0;
  }

  private approach(gain: { now: number; to: number }): number {
    const way = gain.to - gain.now;
    gain.now = Math.abs(way) <= this.glide ? gain.to : gain.now + Math.sign(way) * this.glide;
    return gain.now;
  }

  process(_: unknown, outputs: Float32Array[][]): boolean {
    const left = outputs[0]?.[0];
    const right = outputs[0]?.[1] ?? left;
    if (!left || !right) return true;
    if (!this.running && frames(this.queue) >= this.first + this.extra) this.running = true;
    if (!this.running && !this.playing && this.queue.length > 0) this.running = true;
    const first = this.queue[0];
    const frame = first && this.running ? first.frame + this.offset : -1;
    for (let i = 0; i < left.length && this.running; i++) {
      const piece = this.queue[0];
      if (!piece) {
        if (this.playing) {
          this.missed += 1;
          this.urgent = true;
        }
        // Once something was late, a little more is waited for.
        this.extra = BLOCK;
        this.running = false;
        break;
      }
      const at = this.offset * 4;
      const a = this.approach(this.before);
      const b = this.approach(this.after);
      this.fade = Math.min(Math.max(this.fade + (this.leaving ? -this.jump : this.jump), 0), 1);
      const s = piece.sound;
      left[i] = this.fade * (a * (s[at] ?? 0) + b * (s[at + 2] ?? 0));
      right[i] = this.fade * (a * (s[at + 1] ?? 0) + b * (s[at + 3] ?? 0));
      this.forward();
      if (this.leaving && (this.fade === 0 || this.queue.length === 0)) {
        this.enter();
        break;
      }
    }
    if (this.recording && frame >= 0) {
      this.port.postMessage({ frame, left: left.slice(), right: right.slice() });
    }
    this.tell();
    return true;
  }

  private forward(): void {
    this.offset += 1;
    if (!this.leaving) this.used += 1;
    const piece = this.queue[0];
    if (piece && this.offset * 4 >= piece.sound.length) {
      this.queue.shift();
      this.offset = 0;
    }
  }

  private tell(): void {
    if ((this.used - this.reported < this.tellEvery && !this.urgent) || this.leaving) return;
    this.reported = this.used;
    this.urgent = false;
    const piece = this.queue[0];
    const message: Used = {
      type: 'used',
      epoch: this.epoch,
      frames: this.used,
      frame: piece ? piece.frame + this.offset : -1,
      missed: this.missed,
    };
    this.worker?.postMessage(message);
  }
}

registerProcessor('salt-anvil-player', Player);
