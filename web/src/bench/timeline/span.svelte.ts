import type { Work } from '../../lib/work.svelte';

const LEAST_MS = 60;

/** The part of the song that the time strip shows, and how. */
export class Span {
  begin = $state(0);
  end = $state(1);
  decibels = $state(true);

  /** The level on the middle line: a mix moves within less than a track. */
  get floor(): number {
    return this.work.strip?.kind === 'track' ? -48 : -30;
  }

  constructor(private work: Work) {}

  whole(): void {
    this.begin = 0;
    this.end = Math.max(this.work.frames, 1);
  }

  show(begin: number, end: number): void {
    const frames = Math.max(this.work.frames, 1);
    const size = Math.min(Math.max(end - begin, (LEAST_MS / 1000) * this.work.rate), frames);
    this.begin = Math.round(Math.min(Math.max(begin, 0), frames - size));
    this.end = Math.round(this.begin + size);
  }

  zoom(factor: number, at: number): void {
    const size = (this.end - this.begin) * factor;
    const frame = this.begin + at * (this.end - this.begin);
    this.show(frame - at * size, frame - at * size + size);
  }

  pan(share: number): void {
    const by = share * (this.end - this.begin);
    this.show(this.begin + by, this.end + by);
  }

  share(frame: number): number {
    return (frame - this.begin) / (this.end - this.begin);
  }

  frame(share: number): number {
    return Math.round(this.begin + share * (this.end - this.begin));
  }
}
