<script lang="ts">
  import { untrack } from 'svelte';
  import { api } from '../../lib/api';
  import type { Live } from '../../lib/live.svelte';
  import { colour } from '../../lib/theme';
  import type { Picture } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import { draw, marks, roof, untouched, type Look } from './draw';
  import { Refiner } from './refine';
  import HitMarks from './HitMarks.svelte';
  import LaneEditor from './LaneEditor.svelte';
  import LevelLine from './LevelLine.svelte';
  import Ruler from './Ruler.svelte';
  import SideMeters from '../ledger/SideMeters.svelte';
  import { height, toGain } from '../../lib/scale';
  import type { Span } from './span.svelte';
  import type { Marking } from '../../lib/marking.svelte';
  import { newest } from '../../lib/newest';

  interface Props {
    work: Work;
    live: Live;
    span: Span;
    theme: string;
    /** Hits that are marked for the selected gate. */
    marking?: Marking | null;
  }
  let { work, live, span, theme, marking = null }: Props = $props();
  const FOOT = 44;
  let canvas: HTMLCanvasElement | undefined = $state();
  let width = $state(600);
  let tall = $state(200);
  let picture = $state.raw<Picture | null>(null);
  let of = '';
  let most = $state(12);
  let dirty = false;
  const refiner = new Refiner();
  let painted = 0;
  const REPAINT_MS = 150;

  const head = $derived(span.share(live.frame));

  $effect(() => {
    void [work.fresh, work.stripId, work.at, span.begin, span.end, width];
    untrack(load);
  });
  $effect(() => {
    void [picture, span.decibels, theme, tall, width, most, live.covered];
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
    if (canvas.width !== width * scale || canvas.height !== tall * scale) {
      canvas.width = width * scale;
      canvas.height = tall * scale;
    }
    context.setTransform(scale, 0, 0, scale, 0, 0);
    const look: Look = {
      width,
      height: tall,
      foot: FOOT,
      decibels: span.decibels,
      floor: span.floor,
      most,
      colour,
      marked: (work.at !== 'chain' && work.kind?.marked) || 'reduction',
    };
    draw(context, live.covered ? untouched(picture) : picture, look);
  }

  /** Where the flag of the level line stands, which has the margin to itself. */
  const flag = $derived.by(() => {
    const name = work.lane || work.at === 'chain' ? undefined : work.kind?.level_line;
    if (!work.stage || !name) return null;
    const { params } = work.stage;
    const db = Number(params[name]) - Number(params[work.kind?.level_behind ?? ''] ?? 0);
    return ((tall - FOOT) / 2) * (1 - height(toGain(db), span.decibels, span.floor));
  });

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
  const line = $derived(work.kind?.controls.find((c) => c.name === work.kind?.level_line));
</script>

<section class="strip" aria-label="Time strip">
  <div class="time">
    <Ruler {work} {live} {span} {width} />
    <div class="margin" aria-hidden="true" bind:clientHeight={tall}>
      {#each work.lane ? [] : marks(span.decibels, span.floor) as db (db)}
        {@const up = ((tall - FOOT) / 2) * (1 - height(toGain(db), span.decibels, span.floor))}
        {#if Math.abs(up - (flag ?? -99)) > 16}<span style:top="{up}px">−{-db}</span>{/if}
        {#if tall > 170}<span style:top="{tall - FOOT - up}px">−{-db}</span>{/if}
      {/each}
      <span style:top="{(tall - FOOT) / 2}px" hidden={!!work.lane}
        >{span.decibels ? `−${-span.floor}` : '−∞'}</span
      >
      <span class="taken" style:bottom="{FOOT - 14}px">{most} dB</span>
    </div>
    <div class="field" bind:clientWidth={width}>
      {#if live.transport.loop}
        <div
          class="loop"
          style:left="{100 * span.share(live.transport.loop[0])}%"
          style:width="{100 *
            (span.share(live.transport.loop[1]) - span.share(live.transport.loop[0]))}%"
        ></div>
      {/if}
      <canvas
        bind:this={canvas}
        onwheel={wheel}
        onclick={seek}
        data-covered={live.covered}
        data-done={picture ? picture.done / picture.columns : 0}
        aria-label="Waveform in and out, and reduction"
      ></canvas>
      {#if work.frames === 0}
        <p class="empty">No sound yet. Drop files here or on the list of strips.</p>
      {/if}
      {#if line && work.stage && work.at !== 'chain' && !work.lane}
        <LevelLine
          control={line}
          value={Number(work.stage?.params[line.name] ?? 0)}
          ahead={Number(work.stage?.params[work.kind?.level_behind ?? ''] ?? 0)}
          {span}
          height={tall - FOOT}
          onhold={(v) => work.hold(line.name, v)}
          ondrop={() => void work.drop()}
        />
      {/if}
      {#if work.lane}
        <LaneEditor {work} {live} {span} place={work.lane} {width} height={tall} />
      {/if}
      {#if marking}
        <HitMarks {marking} {span} rate={work.rate} frames={work.frames} {width} />
      {/if}
      {#if head >= 0 && head <= 1}
        <div class="head" style:transform="translateX({head * width}px)"></div>
      {/if}
      <span class="said" style:bottom="{FOOT - 15}px">taken</span>
      <button
        class="axis"
        title="Level axis: decibels or linear"
        onclick={() => (span.decibels = !span.decibels)}
        >{span.decibels ? 'dB' : 'linear'} axis</button
      >
    </div>
  </div>
  <SideMeters {work} {live} />
</section>

<style>
  .strip {
    display: grid;
    grid-template-columns: 1fr 92px;
    min-height: 0;
    background: var(--field);
    border-bottom: 1px solid var(--hair);
  }
  .time {
    display: grid;
    grid-template: 33px 1fr / 44px minmax(0, 1fr);
    min-width: 0;
    min-height: 0;
  }
  .field {
    position: relative;
    min-width: 0;
    min-height: 0;
  }
  .margin {
    position: relative;
    min-height: 0;
    overflow: hidden;
    font-size: var(--mark);
    line-height: 12px;
    color: var(--muted);
    border-right: 1px solid var(--hair);
  }
  .margin span {
    position: absolute;
    right: 4px;
    transform: translateY(-50%);
  }
  .margin .taken {
    color: var(--madder);
    transform: none;
  }
  canvas {
    position: absolute;
    inset: 0;
    width: 100%;
    height: 100%;
  }
  .head {
    position: absolute;
    top: 0;
    bottom: 0;
    left: -1px;
    width: 2px;
    background: var(--ochre);
    pointer-events: none;
  }
  .loop {
    position: absolute;
    top: 0;
    bottom: 0;
    border-left: 1px solid var(--ochre);
    border-right: 1px solid var(--ochre);
    background: var(--ochre-soft);
    pointer-events: none;
  }
  .said {
    position: absolute;
    left: 4px;
    padding: 0 var(--s1);
    font-size: var(--small);
    line-height: 14px;
    color: var(--madder);
    background: var(--field);
    pointer-events: none;
  }
  .axis {
    position: absolute;
    right: 8px;
    bottom: 48px;
    padding: 0 var(--s1);
    font-size: var(--small);
    line-height: 14px;
    color: var(--muted);
    background: var(--field);
  }
  .empty {
    position: absolute;
    inset: 40% 0 auto;
    text-align: center;
    color: var(--muted);
    pointer-events: none;
  }
</style>
