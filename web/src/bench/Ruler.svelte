<script lang="ts">
  import type { Live } from '../lib/live.svelte';
  import type { Work } from '../lib/work.svelte';
  import type { Span } from './span.svelte';

  interface Props {
    work: Work;
    live: Live;
    span: Span;
    width: number;
  }
  let { work, live, span, width }: Props = $props();

  const sections = $derived(work.model?.sections ?? []);
  const bars = $derived(lines());
  let from: number | null = null;
  let moved = false;

  function lines(): { at: number; name: string }[] {
    const bpm = work.model?.bpm;
    const unit = bpm ? (240 / bpm) * work.rate : work.rate;
    const shown = (span.end - span.begin) / unit;
    const room = width / 44;
    const step = [0.25, 1, 2, 4, 8, 16, 32, 64].find((n) => shown / n <= room) ?? 128;
    const found = [];
    const first = Math.ceil(span.begin / (unit * step));
    for (let n = first; n * unit * step <= span.end; n++) {
      const bar = n * step;
      const whole = Math.floor(bar);
      const beat = Math.round((bar - whole) * 4);
      const name = bpm ? (beat ? `${whole + 1}.${beat + 1}` : `${whole + 1}`) : `${bar} s`;
      found.push({ at: span.share(n * unit * step), name });
    }
    return found;
  }

  function startOf(index: number): number {
    return Math.round((sections[index]?.start_s ?? 0) * work.rate);
  }
  function endOf(index: number): number {
    const next = sections[index + 1];
    return next ? Math.round(next.start_s * work.rate) : work.frames;
  }

  /** The nearest beat, or the frame itself when there is no tempo or Shift is held. */
  function snapped(frame: number, free: boolean): number {
    const bpm = work.model?.bpm;
    if (!bpm || free) return Math.max(Math.round(frame), 0);
    const beat = (60 / bpm) * work.rate;
    return Math.max(Math.round(Math.round(frame / beat) * beat), 0);
  }

  function down(event: PointerEvent): void {
    (event.currentTarget as HTMLElement).setPointerCapture(event.pointerId);
    from = event.clientX;
    moved = false;
  }

  function move(event: PointerEvent): void {
    if (from === null) return;
    if (Math.abs(event.clientX - from) > 4) moved = true;
    if (!moved) return;
    const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
    const a = span.frame((from - box.left) / box.width);
    const b = span.frame((event.clientX - box.left) / box.width);
    const begin = snapped(Math.min(a, b), event.shiftKey);
    const end = Math.min(snapped(Math.max(a, b), event.shiftKey), work.frames);
    if (end > begin) live.send({ type: 'loop', begin, end });
  }

  function up(): void {
    from = null;
  }

  function loopSection(event: MouseEvent): void {
    const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
    const frame = span.frame((event.clientX - box.left) / box.width);
    const index = sections.findLastIndex((_, i) => startOf(i) <= frame);
    if (index >= 0) live.send({ type: 'loop', begin: startOf(index), end: endOf(index) });
  }
</script>

<div
  class="ruler"
  role="presentation"
  title="Drag to loop, double click to loop a section"
  onpointerdown={down}
  onpointermove={move}
  onpointerup={up}
  onpointercancel={up}
  ondblclick={loopSection}
>
  {#each bars as bar (bar.name)}
    <span class="bar" style:left="{100 * bar.at}%">{bar.name}</span>
  {/each}
  {#each sections as section, index (section.name)}
    {@const left = span.share(startOf(index))}
    {@const right = span.share(endOf(index))}
    {#if right > 0 && left < 1}
      <span
        class="section"
        style:left="{100 * Math.max(left, 0)}%"
        style:max-width="{100 * (Math.min(right, 1) - Math.max(left, 0))}%">{section.name}</span
      >
    {/if}
  {/each}
  {#if live.transport.loop}
    <i
      style:left="{100 * span.share(live.transport.loop[0])}%"
      style:width="{100 *
        (span.share(live.transport.loop[1]) - span.share(live.transport.loop[0]))}%"
    ></i>
  {/if}
</div>

<style>
  .ruler {
    position: relative;
    overflow: hidden;
    border-bottom: 1px solid var(--hair);
    background: var(--ground);
    cursor: col-resize;
    user-select: none;
    touch-action: none;
  }
  .bar {
    position: absolute;
    bottom: 4px;
    padding-left: 3px;
    height: 9px;
    border-left: 1px solid var(--edge);
    font-size: 10px;
    line-height: 9px;
    color: var(--muted);
  }
  .section {
    position: absolute;
    top: 0;
    height: 14px;
    padding: 0 6px;
    overflow: hidden;
    border-left: 2px solid var(--ink);
    font-size: 12px;
    line-height: 14px;
    font-weight: 600;
    white-space: nowrap;
    background: var(--ground);
  }
  i {
    position: absolute;
    bottom: 0;
    height: 4px;
    background: var(--ochre);
  }
</style>
