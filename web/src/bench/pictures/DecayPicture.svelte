<script lang="ts">
  import { untrack } from 'svelte';
  import { figure } from '../../lib/figures';
  import Figure from './Figure.svelte';
  import type { PictureProps } from '../../lib/picture';

  let { stage, drawing }: PictureProps = $props();

  const [WIDE, TALL, DEEP] = [410, 152, 72];
  const levels = $derived(drawing.part('answer_db') ?? []);
  const seconds = $derived(drawing.part('seconds') ?? 1);
  const decay = $derived(Number(stage.params.decay_s ?? 0));
  const late = $derived(Number(stage.params.predelay_ms ?? 0) / 1000);
  const x = (s: number): number => (s / seconds) * WIDE;
  const y = (db: number): number => (Math.min(-db, DEEP) / DEEP) * TALL;
  const step = $derived([0.02, 0.05, 0.1, 0.2, 0.5, 1].find((s) => seconds / s <= 8) ?? 1);
  const times = $derived([...Array(Math.floor(seconds / step)).keys()].map((i) => (i + 1) * step));
</script>

<Figure>
  <svg
    viewBox="0 0 {WIDE} {TALL}"
    preserveAspectRatio="none"
    role="img"
    aria-label="What the room answers to a click, over time"
  >
    {#each [-20, -40, -60] as db (db)}
      <line class="grid" x1="0" x2={WIDE} y1={y(db)} y2={y(db)} />
    {/each}
    {#each times as s (s)}
      <line class="grid" x1={x(s)} x2={x(s)} y1="0" y2={TALL} />
    {/each}
    {#each levels as db, i (i)}
      {#if db > -DEEP}
        <rect
          x={(i / levels.length) * WIDE}
          width={Math.max(WIDE / levels.length - 0.4, 0.6)}
          y={y(db)}
          height={TALL - y(db)}
        />
      {/if}
    {/each}
    {#each [-20, -40, -60] as db (db)}
      <text x="4" y={y(db) - 3}>−{-db} dB</text>
    {/each}
    {#each times as s (s)}
      <text x={x(s) - 3} y={TALL - 4} text-anchor="end">{figure(s, 2)} s</text>
    {/each}
    <line class="set" x1={x(late)} y1="0" x2={x(late + decay)} y2={y(-60)} />
  </svg>
  {#snippet caption()}<span>answer to a click</span><span>line: {figure(decay, 2)} s for 60 dB</span
    >{/snippet}
</Figure>

<style>
  .grid {
    stroke: var(--hair);
  }
  rect {
    fill: var(--slate);
    fill-opacity: 0.8;
  }
  .set {
    stroke: var(--ink);
    stroke-dasharray: 4 3;
  }
</style>
