<script lang="ts">
  import { figure, signed } from '../../lib/figures';
  import { colour } from '../../lib/theme';
  import Figure from './Figure.svelte';
  import type { PictureProps } from '../../lib/picture';

  let { stage, onReports }: PictureProps = $props();

  const DEEP = 12;
  /** Room at the foot for the figures. */
  const FIGURES = 68;
  let width = $state(190);
  let height = $state(152);
  let canvas: HTMLCanvasElement | undefined = $state();
  let past: number[] = [];
  let now = $state(0);
  let most = $state(0);
  let touched = $state(0);
  let over = $state(0);
  let of = '';

  $effect(() =>
    onReports((batch) => {
      if (of !== stage.id) {
        of = stage.id;
        past = [];
        most = over = touched = 0;
      }
      for (const { report } of batch) {
        const reported = report.stages[stage.id];
        if (!reported?.reduction.length) continue;
        now = Math.max(...reported.reduction);
        most = Math.max(most, now);
        over = Math.max(over, ...reported.overshoot);
        const mean =
          reported.touched.reduce((a, b) => a + b, 0) / Math.max(reported.touched.length, 1);
        touched += 0.02 * (mean - touched);
        past.push(now);
      }
      past = past.slice(-Math.floor(width / 2));
      paint();
    }),
  );

  function paint(): void {
    const context = canvas?.getContext('2d');
    if (!context) return;
    context.clearRect(0, 0, width, height);
    context.fillStyle = colour('madder');
    past.forEach((db, i) => {
      const tall = Math.min(db / DEEP, 1) * (height - FIGURES);
      context.fillRect(width - 2 * (past.length - i), 0, 1.5, tall);
    });
  }
</script>

<Figure>
  <div bind:clientWidth={width} bind:clientHeight={height} class="field">
    <canvas bind:this={canvas} {width} {height} aria-label="Decibels cut off, as it plays"></canvas>
    <dl>
      <dt>cut now</dt>
      <dd>{figure(-now, 1)} dB</dd>
      <dt>at most</dt>
      <dd data-most={most}>{figure(-most, 1)} dB</dd>
      <dt>samples touched</dt>
      <dd>{figure(100 * touched, 1)} %</dd>
      <dt>over the ceiling again</dt>
      <dd>{signed(over)} dB</dd>
    </dl>
  </div>
  {#snippet caption()}cut off, down to {DEEP} dB{/snippet}
</Figure>

<style>
  .field {
    position: relative;
    background: var(--field);
    border: 1px solid var(--hair);
    overflow: hidden;
  }
  canvas {
    position: absolute;
    inset: 0;
  }
  dl {
    position: absolute;
    left: 6px;
    right: 6px;
    bottom: 4px;
    margin: 0;
    display: grid;
    grid-template-columns: 1fr auto;
    font-size: var(--small);
    line-height: 15px;
    color: var(--muted);
  }
  dd {
    margin: 0;
    color: var(--ink);
    text-align: right;
  }
</style>
