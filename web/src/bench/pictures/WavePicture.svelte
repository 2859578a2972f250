<script lang="ts">
  import { untrack } from 'svelte';
  import { Drawing } from '../../lib/drawing.svelte';
  import type { Live } from '../../lib/live.svelte';
  import type { Work } from '../../lib/work.svelte';
  import Figure from './Figure.svelte';

  interface Props {
    work: Work;
    live: Live;
  }
  let { work }: Props = $props();

  const [WIDE, TALL] = [190, 152];
  const drawing = untrack(() => new Drawing(work));
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
