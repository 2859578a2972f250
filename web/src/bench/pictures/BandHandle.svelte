<script lang="ts">
  import { gainOf, hzOf, SHORT } from '../../lib/bands';
  import { hertz, signed } from '../../lib/figures';
  import type { BandRecord } from '../../lib/types';

  interface Props {
    band: BandRecord;
    index: number;
    chosen: boolean;
    x: number;
    /** Where a gain stands, kept within the picture. */
    y: (db: number) => number;
    /** How far the band has moved by itself, in dB, without its sign. */
    move: number;
    onfocus: () => void;
    onkey: (event: KeyboardEvent) => void;
  }
  let { band, index, chosen, x, y, move, onfocus, onkey }: Props = $props();

  const gain = $derived(gainOf(band));
  const at = $derived(y(gain));
  const way = $derived(Number(band.move_db ?? 0));
  const moved = $derived(Math.sign(way) * move);
</script>

{#if way}
  <line class="way" x1={x} x2={x} y1={at} y2={y(gain + way)} />
  {#if moved}
    <line class:less={moved < 0} class="moved" x1={x} x2={x} y1={at} y2={y(gain + moved)} />
  {/if}
{/if}
<rect
  class="handle"
  class:chosen
  class:off={band.on === false}
  data-band={index}
  x={x - 7}
  y={at - 7}
  width="14"
  height="14"
  role="slider"
  tabindex="0"
  aria-label="Band {index + 1}, {SHORT[String(band.type)]}"
  aria-valuenow={gain}
  aria-valuetext="{hertz(hzOf(band))}, {signed(gain)} dB"
  {onfocus}
  onkeydown={onkey}
/>
<text class="number" class:chosen {x} y={at + 3.5} text-anchor="middle">{index + 1}</text>

<style>
  .way {
    stroke: var(--edge);
    stroke-dasharray: 2 2;
  }
  .moved {
    stroke: var(--slate);
    stroke-width: 4;
  }
  .less {
    stroke: var(--madder);
  }
  .handle {
    fill: var(--field);
    stroke: var(--ink);
    stroke-width: 1.2;
    cursor: move;
  }
  .handle.chosen {
    fill: var(--ink);
  }
  .handle.off {
    stroke-dasharray: 2 2;
    stroke: var(--muted);
  }
  .number {
    font-size: var(--mark);
    fill: var(--ink);
    stroke: none;
    pointer-events: none;
    font-weight: 600;
  }
  .number.chosen {
    fill: var(--field);
  }
</style>
