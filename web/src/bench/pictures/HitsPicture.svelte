<script lang="ts">
  import { untrack } from 'svelte';
  import { figure } from '../../lib/figures';
  import type { Hit } from '../../lib/types';
  import Figure from './Figure.svelte';
  import type { PictureProps } from '../../lib/picture';

  let { stage, rate, frames, frame, fresh, known }: PictureProps = $props();

  const WIDE = 190;
  const TALL = 184;
  const SPAN_MS = 500;
  let hits = $state.raw<Hit[]>([]);
  let asked = 0;

  const second = $derived(Math.floor(frame / rate / 0.5));
  const most = $derived(Math.max(3, ...hits.flatMap((h) => h.reduction)));
  const step = $derived(((64 / rate) * 1000 * WIDE) / SPAN_MS);

  $effect(() => {
    void [fresh, stage.id, second];
    untrack(() => void load());
  });

  async function load(): Promise<void> {
    const mine = ++asked;
    const before = frame > rate ? frame : frames;
    const found = await known.hits(before);
    if (mine === asked) hits = found;
  }

  function shape(hit: Hit): string {
    const points = hit.reduction.map(
      (db, i) => `L${(i * step).toFixed(1)} ${((db / most) * (TALL - 20)).toFixed(1)}`,
    );
    return `M0 0${points.join('')}L${((hit.reduction.length - 1) * step).toFixed(1)} 0Z`;
  }
</script>

<Figure>
  <svg
    viewBox="0 0 {WIDE} {TALL}"
    preserveAspectRatio="none"
    role="img"
    aria-label="Reduction after the last hits"
  >
    {#each [100, 200, 300, 400] as ms (ms)}
      <path d="M{(ms / SPAN_MS) * WIDE} 0V{TALL}" stroke="var(--hair)" />
      <text x={(ms / SPAN_MS) * WIDE + 2} y={TALL - 4}>{ms}</text>
    {/each}
    {#each hits as hit, index (hit.frame)}
      <path
        d={shape(hit)}
        fill="var(--madder)"
        fill-opacity={index === hits.length - 1 ? 0.75 : 0.22}
        stroke="var(--madder)"
      />
    {/each}
    {#if hits.length === 0}
      <text x={WIDE / 2} y={TALL / 2} text-anchor="middle">no hits so far</text>
    {/if}
  </svg>
  {#snippet caption()}
    last hits, ms
    {#if hits.length}<span class="most">{figure(-most, 1)} dB at most</span>{/if}
  {/snippet}
</Figure>

<style>
  .most {
    color: var(--madder);
  }
</style>
