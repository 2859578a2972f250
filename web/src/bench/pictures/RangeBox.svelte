<svelte:options namespace="svg" />

<script lang="ts">
  import { hzX } from '../../lib/spectrum';
  import { TALL } from './SpectrumField.svelte';

  interface Props {
    low: number;
    high: number;
    width: number;
    /** Frequencies at which it can be taken hold of. */
    edges: number[];
  }
  let { low, high, width, edges }: Props = $props();
</script>

<rect
  class="range"
  data-range
  x={hzX(low, width)}
  width={Math.max(hzX(high, width) - hzX(low, width), 2)}
  y="0"
  height={TALL}
/>
{#each edges as edge, i (i)}
  <line class="edge" x1={hzX(edge, width)} x2={hzX(edge, width)} y1="0" y2={TALL} />
{/each}
