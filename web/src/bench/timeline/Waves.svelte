<script lang="ts">
  import { onDestroy, untrack } from 'svelte';
  import { api } from '../../lib/api';
  import type { Live } from '../../lib/live.svelte';
  import { newest } from '../../lib/newest';
  import { colour } from '../../lib/theme';
  import type { Picture } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import { draw, roof, untouched, type Look } from './draw';
  import { Refiner } from './refine';
  import type { Span } from './span.svelte';

  interface Props {
    work: Work;
    live: Live;
    span: Span;
    theme: string;
    width: number;
    height: number;
    /** Height of the row of reduction at the foot. */
    foot: number;
    /** dB at the top of that row: told. */
    most: number;
  }
  let { work, live, span, theme, width, height, foot, most = $bindable() }: Props = $props();
  let canvas: HTMLCanvasElement | undefined = $state();
  let picture = $state.raw<Picture | null>(null);
  let of = '';
  let dirty = false;
  const refiner = new Refiner();
  let painted = 0;
  const REPAINT_MS = 150;

  $effect(() => {
    void [work.fresh, work.stripId, work.at, span.begin, span.end, width];
    untrack(load);
  });
  $effect(() => {
    void [picture, span.decibels, theme, height, width, most, live.covered];
    untrack(paint);
  });
  $effect(() =>
    live.onReports((batch) => {
      if (!picture || of !== work.at) return;
      for (const { report } of batch) {
        const level = report.stages[work.stageId]?.level ?? [];
        dirty = refiner.take(picture, { ...report, level }) || dirty;
      }
      if (dirty && performance.now() - painted > (live.ahead.behind ? 4 : 1) * REPAINT_MS) paint();
    }),
  );

  const load = newest(async () => {
    const { state, stripId, at } = work;
    if (!state || !stripId || width < 10 || work.frames === 0) return;
    const columns = Math.min(Math.floor(width), 3000);
    const next = await api.picture(state.id, stripId, at, span.begin, span.end, columns);
    const partial =
      next.done < next.columns &&
      picture &&
      of === at &&
      picture.begin === next.begin &&
      picture.end === next.end &&
      picture.columns === next.columns;
    // While a new pass is on its way, the rest of the old picture stays.
    if (partial && picture) mend(next, picture);
    picture = next;
    most = roof(next.reduction);
    of = at;
  }, 150);
  onDestroy(load.leave);

  function mend(next: Picture, old: Picture): void {
    for (const name of ['before', 'after', 'body', 'reduction', 'level'] as const) {
      const whole = old[name].slice();
      if (whole.length < next[name].length) continue;
      whole.set(next[name]);
      next[name] = whole;
    }
    next.done = Math.max(next.done, old.done);
  }

  function paint(): void {
    dirty = false;
    painted = performance.now();
    const context = canvas?.getContext('2d');
    if (!canvas || !context || !picture) return;
    const scale = window.devicePixelRatio || 1;
    if (canvas.width !== width * scale || canvas.height !== height * scale) {
      canvas.width = width * scale;
      canvas.height = height * scale;
    }
    context.setTransform(scale, 0, 0, scale, 0, 0);
    const look: Look = {
      width,
      height,
      foot,
      decibels: span.decibels,
      floor: span.floor,
      most,
      colour,
      marked: (work.at !== 'chain' && work.kind?.marked) || 'reduction',
    };
    draw(context, live.covered ? untouched(picture) : picture, look);
  }

  function wheel(event: WheelEvent): void {
    event.preventDefault();
    const sideways = event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY);
    if (sideways) span.pan((event.deltaX || event.deltaY) / 800);
    else span.zoom(event.deltaY > 0 ? 1.25 : 0.8, event.offsetX / width);
  }

  function seek(event: MouseEvent): void {
    const frame = Math.min(Math.max(span.frame(event.offsetX / width), 0), work.frames);
    live.frame = frame;
    live.send({ type: 'seek', frame });
  }
</script>

<canvas
  bind:this={canvas}
  onwheel={wheel}
  onclick={seek}
  data-covered={live.covered}
  data-done={picture ? picture.done / picture.columns : 0}
  aria-label="Waveform in and out, and reduction"
></canvas>

<style>
  canvas {
    position: absolute;
    inset: 0;
    width: 100%;
    height: 100%;
  }
</style>
