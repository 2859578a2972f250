<script lang="ts">
  import { untrack } from 'svelte';
  import { figure } from '../../lib/figures';
  import Figure from './Figure.svelte';
  import type { PictureProps } from '../../lib/picture';

  let { drawing }: PictureProps = $props();

  const WIDE = 190;
  const TALL = 152;
  const FLOOR = -100;
  const levels = $derived(drawing.part('harmonics_db') ?? []);
  const shown = $derived(drawing.part('shown_db') ?? 0);
  const LEFT = 20;
  const step = $derived((WIDE - LEFT) / Math.max(levels.length, 1));
  const y = (db: number): number => (Math.max(db, FLOOR) / FLOOR) * (TALL - 16);
  const loudest = $derived(
    levels.slice(1).reduce((best, db, i) => (db > (levels[best] ?? FLOOR) ? i + 1 : best), 1),
  );
</script>

<Figure>
  <svg
    viewBox="0 0 {WIDE} {TALL}"
    preserveAspectRatio="none"
    role="img"
    aria-label="Harmonics of a sine, against the fundamental"
  >
    {#each [-20, -40, -60, -80] as db (db)}
      <path class="grid" d="M0 {y(db)}H{WIDE}" />
      <text x="3" y={y(db) - 2}>−{-db}</text>
    {/each}
    {#each levels as db, i (i)}
      {#if db > FLOOR}
        <rect
          class:even={i % 2 === 1}
          class:first={i === 0}
          x={LEFT + i * step + step * 0.3}
          width={step * 0.4}
          y={y(db)}
          height={TALL - 16 - y(db)}
        />
      {/if}
      <text x={LEFT + i * step + step / 2} y={TALL - 4} text-anchor="middle">{i + 1}</text>
    {/each}
  </svg>
  {#snippet caption()}
    harmonics at {figure(shown, 0)} dB
    {#if levels.length}<span>{loudest + 1}. at {figure(levels[loudest] ?? 0, 1)} dB</span>{/if}
  {/snippet}
</Figure>

<style>
  .grid {
    stroke: var(--hair);
  }
  rect {
    fill: var(--slate);
  }
  rect.even {
    fill: var(--field);
    stroke: var(--slate);
    stroke-width: 1.5;
  }
  rect.first {
    fill: var(--before);
  }
</style>
