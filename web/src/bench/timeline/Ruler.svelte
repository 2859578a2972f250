<script lang="ts">
  import type { Live } from '../../lib/live.svelte';
  import { barFrames, sectionAt, sectionSpans, snapped } from '../../lib/sections';
  import type { Work } from '../../lib/work.svelte';
  import SectionRow from './SectionRow.svelte';
  import type { Span } from './span.svelte';
  import { drag, spotIn, type Gesture } from '../../lib/drag';

  interface Props {
    work: Work;
    live: Live;
    span: Span;
    width: number;
  }
  let { work, live, span, width }: Props = $props();

  /** Room that a bar's number takes, so that none is cut at the right edge. */
  const LABEL_PX = 30;
  const bars = $derived(lines());

  function lines(): { at: number; name: string }[] {
    if (!work.model) return [];
    const bpm = work.model.bpm;
    const unit = barFrames(work.model);
    const shown = (span.end - span.begin) / unit;
    const room = width / 44;
    const step = [0.25, 1, 2, 4, 8, 16, 32, 64].find((n) => shown / n <= room) ?? 128;
    const found = [];
    const first = Math.ceil(span.begin / (unit * step));
    for (let n = first; n * unit * step <= span.end; n++) {
      const bar = n * step;
      const whole = Math.floor(bar);
      const beat = Math.round((bar - whole) * 4);
      const at = span.share(n * unit * step);
      const name = bpm ? (beat ? `${whole + 1}.${beat + 1}` : `${whole + 1}`) : `${bar} s`;
      found.push({ at, name: at * width > width - LABEL_PX ? '' : name });
    }
    return found;
  }

  /** The nearest beat, or the frame itself when there is no tempo or Shift is held. */
  function beat(frame: number, free: boolean): number {
    if (!work.model) return 0;
    return snapped(frame, barFrames(work.model) / 4, free || !work.model.bpm);
  }

  const gesture: Gesture<{ moved: boolean }> = {
    start: () => ({ moved: false }),
    move(held, at, from) {
      if (Math.abs(at.x - from.x) > 4) held.moved = true;
      if (!held.moved) return;
      const [a, b] = [span.frame(from.across), span.frame(at.across)];
      const begin = beat(Math.min(a, b), at.fine);
      const end = Math.min(beat(Math.max(a, b), at.fine), work.frames);
      if (end > begin) live.send({ type: 'loop', begin, end });
    },
  };

  function loopSection(event: MouseEvent & { currentTarget: Element }): void {
    if (!work.model) return;
    const frame = span.frame(spotIn(event.currentTarget, event).across);
    const found = sectionAt(sectionSpans(work.model, work.frames), frame);
    if (found) live.send({ type: 'loop', begin: found.begin, end: found.end });
  }
</script>

<div class="names" aria-hidden="true"><span>section</span><span>bar</span></div>
<div class="ruler">
  <SectionRow {work} {live} {span} />
  <div
    class="bars"
    role="presentation"
    title="Drag to loop, double click to loop a section"
    {@attach drag(gesture)}
    ondblclick={loopSection}
  >
    {#each bars as bar (bar.at)}
      <span class="bar" style:left="{100 * bar.at}%">{bar.name}</span>
    {/each}
    {#if live.transport.loop}
      <i
        style:left="{100 * span.share(live.transport.loop[0])}%"
        style:width="{100 *
          (span.share(live.transport.loop[1]) - span.share(live.transport.loop[0]))}%"
      ></i>
    {/if}
  </div>
</div>

<style>
  .names {
    display: grid;
    grid-template-rows: 18px 14px;
    padding-right: var(--s1);
    text-align: right;
    font-size: var(--mark);
    line-height: 16px;
    color: var(--muted);
    background: var(--ground);
    border-bottom: 1px solid var(--hair);
  }
  .ruler {
    display: grid;
    grid-template-rows: 18px 14px;
    min-width: 0;
    border-bottom: 1px solid var(--hair);
    background: var(--ground);
  }
  .bars {
    position: relative;
    overflow: hidden;
    border-top: 1px solid var(--hair);
    cursor: col-resize;
    user-select: none;
    touch-action: none;
  }
  .bar {
    position: absolute;
    bottom: 3px;
    padding-left: 3px;
    height: 9px;
    border-left: 1px solid var(--edge);
    font-size: var(--mark);
    line-height: 9px;
    color: var(--muted);
  }
  i {
    position: absolute;
    bottom: 0;
    height: 3px;
    background: var(--ochre);
  }
</style>
