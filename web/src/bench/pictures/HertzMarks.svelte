<svelte:options namespace="svg" />

<script lang="ts">
  import { hzX, MARKS } from '../../lib/spectrum';

  interface Props {
    width: number;
    height: number;
    /** Only the powers of ten are written. */
    few?: boolean;
  }
  let { width, height, few = false }: Props = $props();

  const isTen = (value: number): boolean => String(value).startsWith('1');
</script>

{#each MARKS as [value, words] (value)}
  <line x1={hzX(value, width)} x2={hzX(value, width)} y1="0" y2={height} />
  {#if !few || isTen(value)}
    <text x={Math.min(hzX(value, width) + 3, width - 18)} y={height - 4}>{words}</text>
  {/if}
{/each}

<style>
  line {
    stroke: var(--hair);
  }
  text {
    font-size: var(--mark);
    fill: var(--muted);
    pointer-events: none;
  }
</style>
