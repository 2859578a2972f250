<script lang="ts">
  import { height as up, toGain } from '../../lib/scale';
  import { marks } from './draw';
  import type { Span } from './span.svelte';

  interface Props {
    span: Span;
    /** Height of the rows of sound, without the row of reduction, and that row's. */
    body: number;
    foot: number;
    /** dB at the top of the row of reduction. */
    most: number;
    /** Where the flag of a level line stands, which has the margin to itself there. */
    flag: number | null;
    /** Only what the row of reduction shows: the rest is told by what lies over it. */
    covered: boolean;
  }
  let { span, body, foot, most, flag, covered }: Props = $props();

  const TALL = 126;
</script>

{#each covered ? [] : marks(span.decibels, span.floor) as db (db)}
  {@const top = (body / 2) * (1 - up(toGain(db), span.decibels, span.floor))}
  {#if Math.abs(top - (flag ?? -99)) > 16}<span style:top="{top}px">−{-db}</span>{/if}
  {#if body > TALL}<span style:top="{body - top}px">−{-db}</span>{/if}
{/each}
<span style:top="{body / 2}px" hidden={covered}>{span.decibels ? `−${-span.floor}` : '−∞'}</span>
<span class="taken" style:bottom="{foot - 14}px">{most} dB</span>

<style>
  span {
    position: absolute;
    right: 4px;
    transform: translateY(-50%);
  }
  .taken {
    color: var(--madder);
    transform: none;
  }
</style>
