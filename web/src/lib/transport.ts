import type { Span } from '../bench/timeline/span.svelte';
import type { Live } from './live.svelte';
import { sectionAt, sectionSpans } from './sections';
import type { Work } from './work.svelte';

/** What keys and buttons do to play, to the selected strip and to the selected stage. */
export class Transport {
  constructor(
    private live: Live,
    private work: Work,
    private span: Span,
  ) {}

  async play(): Promise<void> {
    const { live, work } = this;
    if (!work.state) return;
    if (live.transport.playing) {
      live.send({ type: 'stop' });
      live.send({ type: 'seek', frame: live.frame });
      return;
    }
    await live.start(work.rate);
    live.send({ type: 'play', frame: live.frame });
  }

  loop(): void {
    const { live, work } = this;
    if (live.transport.loop) {
      live.send({ type: 'loop', begin: null, end: null });
      return;
    }
    const spans = work.model ? sectionSpans(work.model, work.frames) : [];
    const { begin, end } = sectionAt(spans, live.frame) ?? { begin: 0, end: work.frames };
    live.send({ type: 'loop', begin, end });
  }

  step(beats: number): void {
    const { live, work } = this;
    const beat = (60 / (work.model?.bpm ?? 60)) * work.rate;
    const frame = Math.min(Math.max(Math.round(live.frame + beats * beat), 0), work.frames);
    live.frame = frame;
    live.send({ type: 'seek', frame });
  }

  zoom(factor: number): void {
    this.span.zoom(factor, Math.min(Math.max(this.span.share(this.live.frame), 0), 1));
  }

  nextStrip(by: number): void {
    const rows = [...document.querySelectorAll<HTMLElement>('[data-strip]')];
    const at = rows.findIndex((r) => r.dataset.strip === this.work.stripId);
    const next = rows[Math.min(Math.max(at + by, 0), rows.length - 1)];
    if (next?.dataset.strip) this.work.select(next.dataset.strip);
  }

  toggle(field: 'mute' | 'solo'): void {
    const { work } = this;
    const { strip } = work;
    if (!strip) return;
    const edits = work.together.map((s) => ({ strip: s.id, field, value: !strip[field] }));
    void work.edit(...edits.map((e) => ({ type: 'set_strip' as const, ...e })));
  }

  bypass(): void {
    const { stage, split } = this.work;
    if (stage) void this.work.edit({ type: 'set_stage', stage: stage.id, on: !stage.on });
    if (split) void this.work.edit({ type: 'set_split', split: split.id, on: !split.on });
  }
}
