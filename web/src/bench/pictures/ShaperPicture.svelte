<script lang="ts">
  import { untrack } from 'svelte';
  import Figure from './Figure.svelte';
  import type { PictureProps } from '../../lib/picture';

  let { stage, drawing, onReports }: PictureProps = $props();

  const SIZE = 200;
  const REACH = 1.2;
  const BINS = 48;
  const shaper = $derived(drawing.part('shaper') ?? []);
  /** How often the input's extremes lay in each of the bins from -REACH to REACH. */
  let counts = $state.raw<number[]>(new Array<number>(BINS).fill(0));
  const most = $derived(Math.max(1, ...counts));
  const x = (value: number): number => ((value + REACH) / (2 * REACH)) * SIZE;
  const y = (value: number): number => SIZE - x(value);
  const line = $derived(
    shaper.map(([a, b], i) => `${i ? 'L' : 'M'}${x(a).toFixed(1)} ${y(b).toFixed(1)}`).join(''),
  );

  $effect(() =>
    onReports((batch) => {
      const next = counts.map((count) => count * 0.985);
      for (const { report } of batch) {
        for (const pair of report.before) {
          for (const value of pair) {
            const bin = Math.floor(((value + REACH) / (2 * REACH)) * BINS);
            if (bin >= 0 && bin < BINS) next[bin] = (next[bin] ?? 0) + 1;
          }
        }
      }
      counts = next;
    }),
  );
  $effect(() => {
    void stage.id;
    counts = new Array<number>(BINS).fill(0);
  });
</script>

<Figure>
  <svg
    viewBox="0 0 {SIZE} {SIZE}"
    preserveAspectRatio="none"
    role="img"
    aria-label="What goes in against what comes out, over how often the input's peaks lie where"
  >
    {#each counts as count, i (i)}
      {#if count > 0.05}
        {@const tall = (count / most) * SIZE * 0.45}
        <rect
          class="often"
          x={(i / BINS) * SIZE}
          width={SIZE / BINS - 0.5}
          y={SIZE - tall}
          height={tall}
        />
      {/if}
    {/each}
    {#each [-1, 0, 1] as value (value)}
      <path class="grid" d="M{x(value)} 0V{SIZE}M0 {y(value)}H{SIZE}" />
    {/each}
    <path class="straight" d="M0 {SIZE}L{SIZE} 0" />
    <path class="line" d={line} />
  </svg>
  {#snippet caption()}in → out, full scale at the lines{/snippet}
</Figure>

<style>
  .often {
    fill: var(--before);
  }
  .grid {
    stroke: var(--hair);
    fill: none;
  }
  .straight {
    stroke: var(--edge);
    stroke-dasharray: 2 3;
  }
  .line {
    fill: none;
    stroke: var(--ink);
    stroke-width: 2;
  }
</style>
