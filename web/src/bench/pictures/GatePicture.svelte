<script lang="ts">
  import { untrack } from 'svelte';
  import { colour } from '../../lib/theme';
  import Figure from './Figure.svelte';
  import { drag, type Gesture } from '../../lib/drag';
  import type { PictureProps } from '../../lib/picture';

  let { stage, rate, frames, playing, fresh, onReports, onhold, ondrop, known }: PictureProps =
    $props();

  const PHASES = ['closed', 'closing', 'holding', 'opening', 'open'] as const;
  const FLOOR = -84;
  const FOOT = 34;
  let width = $state(410);
  let height = $state(170);
  let canvas: HTMLCanvasElement | undefined = $state();
  let past: { level: number; phase: number }[] = [];
  let phase = $state(0);
  let openings = $state(0);
  let seconds = $state(0);
  let of = '';
  /** Room at the left for the labels, so that none lies on the level. */
  const GUTTER = 84;

  const opens = $derived(Number(stage.params.threshold_db ?? -40));
  const closes = $derived(opens - Number(stage.params.hysteresis_db ?? 0));
  const y = (db: number): number => (Math.min(Math.max(db, FLOOR), 0) / FLOOR) * (height - FOOT);

  $effect(() =>
    onReports((batch) => {
      // Another key filter hears something else: its history begins anew.
      const now = stage.id + JSON.stringify(stage.key);
      if (of !== now) {
        of = now;
        past = [];
        openings = seconds = 0;
      }
      for (const { report } of batch) {
        const reported = report.stages[stage.id];
        if (!reported?.phase.length) continue;
        phase = reported.phase[reported.phase.length - 1] ?? 0;
        openings += reported.opened;
        seconds += (reported.phase.length * 64) / rate;
        past.push({
          level: Math.max(FLOOR, ...reported.level),
          phase: Math.max(...reported.phase),
        });
      }
      past = past.slice(-Math.floor(width - GUTTER));
      paint();
    }),
  );
  $effect(() => {
    void [opens, closes, width, height];
    paint();
  });

  $effect(() => {
    void [stage.id, fresh];
    untrack(() => void before());
  });

  /** Another stage or view has come meanwhile; there is no stage to ask then. */
  let gone = false;
  $effect(() => () => {
    gone = true;
  });

  /** Before anything is heard, what the analysis knows: the whole song at once. */
  async function before(): Promise<void> {
    const id = stage.id;
    if (frames === 0 || past.length) return;
    const found = await known.picture(Math.max(Math.floor(width - GUTTER), 1));
    if (!found?.level.length || gone || stage.id !== id || past.length) return;
    const depth = Math.max(...found.reduction, 0.5);
    past = [...found.level].map((level, i) => {
      const taken = found.reduction[i] ?? 0;
      const phase = taken < 0.5 ? 4 : taken < 0.9 * depth ? 1 : 0;
      return { level: Math.max(FLOOR, level), phase };
    });
    of = '';
    paint();
  }

  /** What the gate did, told apart by shape: full, lines, ramps, a thin line. */
  function paint(): void {
    const context = canvas?.getContext('2d');
    if (!context) return;
    context.clearRect(0, 0, width, height);
    const left = width - past.length;
    const base = height - 6;
    past.forEach((cell, i) => {
      const x = left + i;
      context.fillStyle = colour(cell.phase >= 2 ? 'slate' : 'before');
      context.fillRect(x, y(cell.level), 1, height - FOOT - y(cell.level));
      const tall = [2, 8, 16, 12, 18][cell.phase] ?? 2;
      context.fillStyle = colour('ink');
      if (cell.phase !== 2 || x % 3 === 0) context.fillRect(x, base - tall, 1, tall);
    });
    for (const [db, dash] of [
      [opens, []],
      [closes, [5, 4]],
    ] as [number, number[]][]) {
      context.strokeStyle = colour('ink');
      context.lineWidth = 1.5;
      context.setLineDash(dash);
      context.beginPath();
      context.moveTo(0, y(db));
      context.lineTo(width, y(db));
      context.stroke();
    }
    context.setLineDash([]);
  }

  const gesture: Gesture<'opens' | 'closes'> = {
    start(at) {
      if (Math.abs(at.y - y(opens)) < 9) return 'opens';
      return Math.abs(at.y - y(closes)) < 9 ? 'closes' : undefined;
    },
    move(line, at) {
      const level = Math.round(((at.y / (height - FOOT)) * FLOOR + 1e-9) * 2) / 2;
      if (line === 'opens') onhold('threshold_db', Math.min(Math.max(level, -80), 0));
      else onhold('hysteresis_db', Math.min(Math.max(opens - level, 0), 24));
    },
    end: () => ondrop(),
  };
</script>

<Figure>
  <div bind:clientWidth={width} bind:clientHeight={height} class="field">
    <canvas
      bind:this={canvas}
      {width}
      {height}
      aria-label="Level that the gate hears, the levels at which it opens and closes, and what it did"
      {@attach drag(gesture)}
    ></canvas>
    <span class="line" style:top="{y(opens) - 15}px">opens {opens.toFixed(1)} dB</span>
    {#if closes < opens - 1}
      <span class="line" style:top="{y(closes) + 2}px">closes {closes.toFixed(1)} dB</span>
    {/if}
  </div>
  {#snippet caption()}
    <b role="status">{playing ? PHASES[phase] : 'not playing'}</b>
    <span data-openings={openings}
      >{openings}
      {openings === 1 ? 'opening' : 'openings'} in {seconds.toFixed(0)} s{openings > 6 * seconds &&
      seconds > 1
        ? ': it chatters; more hysteresis or hold'
        : ''}</span
    >
  {/snippet}
</Figure>

<style>
  .field {
    position: relative;
    background: var(--field);
    border: 1px solid var(--hair);
    overflow: hidden;
    height: 152px;
  }
  canvas {
    position: absolute;
    inset: 0;
    touch-action: none;
    cursor: ns-resize;
  }
  .line {
    position: absolute;
    left: 6px;
    font-size: var(--mark);
    line-height: 13px;
    background: var(--field);
    pointer-events: none;
  }
  b {
    color: var(--ink);
  }
</style>
