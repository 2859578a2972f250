<script lang="ts">
  import { untrack } from 'svelte';
  import Figure from './Figure.svelte';
  import type { PictureProps } from '../../lib/picture';

  let { drawing }: PictureProps = $props();

  const [WIDE, TALL] = [190, 152];
  const waves = $derived(drawing.part('waves') ?? [[], []]);
  const line = (wave: number[]): string =>
    wave
      .map((v, i) => {
        const x = (i / Math.max(wave.length - 1, 1)) * WIDE;
        return `${i ? 'L' : 'M'}${x.toFixed(1)} ${((1 - v) * (TALL / 2)).toFixed(1)}`;
      })
      .join('');
</script>

<Figure>
  <svg
    viewBox="0 0 {WIDE} {TALL}"
    preserveAspectRatio="none"
    role="img"
    aria-label="A wave through it"
  >
    <path class="was" d={line(waves[0])} />
    <path class="now" d={line(waves[1])} />
  </svg>
  {#snippet caption()}<span>300 Hz, −3 dB</span><span>10 ms</span>{/snippet}
</Figure>

<style>
  path {
    fill: none;
  }
  .was {
    stroke: var(--edge);
  }
  .now {
    stroke: var(--ink);
    stroke-width: 1.3;
  }
</style>
