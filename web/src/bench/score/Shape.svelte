<script lang="ts">
  import { untrack } from 'svelte';
  import { Drawing } from '../../lib/drawing.svelte';
  import type { Kind, Stage } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';

  interface Props {
    work: Work;
    stage: Stage;
    glyph: Kind['glyph'];
    wide: number;
    tall: number;
  }
  let { work, stage, glyph, wide, tall }: Props = $props();

  const REACH_DB = 12;
  const FLOOR_DB = -60;
  const drawing = untrack(() => new Drawing(work, () => stage));
  const params = $derived(stage.params as Record<string, number>);

  const line = (points: [number, number][]): string =>
    points
      .map(([x, y], i) => {
        const held = Math.min(Math.max(y, 0), 1);
        return `${i ? 'L' : 'M'}${(x * wide).toFixed(1)} ${((1 - held) * (tall - 2) + 1).toFixed(1)}`;
      })
      .join('');

  /** A response over ±12 dB, or a shaper over ±1, both from 0 to 1. */
  function curve(): string {
    const levels = drawing.part('totals')?.both ?? [];
    const shaper = drawing.part('shaper') ?? [];
    if (glyph === 'response') {
      const last = Math.max(levels.length - 1, 1);
      return line(levels.map((db, i) => [i / last, (db / REACH_DB + 1) / 2]));
    }
    return line(
      shaper.filter(([x]) => Math.abs(x) <= 1).map(([x, y]) => [(x + 1) / 2, (y + 1) / 2]),
    );
  }

  /** Bars for the harmonics, as shares of the height. */
  function bars(): number[] {
    const levels = drawing.part('harmonics_db') ?? [];
    return levels.slice(0, 8).map((db) => Math.max(1 - db / FLOOR_DB, 0));
  }

  /** How far apart the sides are, how long a room lasts, how coarse the steps are. */
  function sketch(): string {
    if (glyph === 'sides') {
      const half = Math.min((params.width ?? 1) / 4, 0.5);
      return `${line([
        [0.5, 0],
        [0.5 - half, 1],
      ])}${line([
        [0.5, 0],
        [0.5 + half, 1],
      ])}`;
    }
    if (glyph === 'decay') {
      const fall = (params.decay_s ?? 0.4) / 3;
      return line(
        [...Array(21).keys()].map((i) => [i / 20, 10 ** (-(i / 20) / Math.max(fall, 0.02))]),
      );
    }
    const steps = Math.min(2 ** Math.round(params.bits ?? 8), 8);
    return line(
      [...Array(steps).keys()].flatMap((i): [number, number][] => [
        [i / steps, i / (steps - 1)],
        [(i + 1) / steps, i / (steps - 1)],
      ]),
    );
  }
</script>

<svg width={wide} height={tall} aria-hidden="true">
  {#if glyph === 'harmonics'}
    {#each bars() as share, i (i)}
      <rect x={i * 7 + 1} y={(1 - share) * tall} width="4" height={share * tall} />
    {/each}
  {:else}
    <path d={glyph === 'response' || glyph === 'shaper' ? curve() : sketch()} />
  {/if}
</svg>

<style>
  svg {
    position: absolute;
    inset: 0;
  }
  path {
    fill: none;
    stroke: var(--slate);
    stroke-width: 1.3;
  }
  rect {
    fill: var(--slate);
  }
</style>
