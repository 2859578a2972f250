<script lang="ts">
  import { figure } from '../../lib/figures';
  import { FATES, type Marking } from '../../lib/marking.svelte';
  import type { Span } from './span.svelte';

  /** Hits marked for a gate, where they are; while a brush is taken, a click marks one more. */
  interface Props {
    marking: Marking;
    span: Span;
    rate: number;
    frames: number;
    width: number;
  }
  let { marking, span, rate, frames, width }: Props = $props();

  function mark(event: MouseEvent): void {
    const frame = Math.round(span.frame(event.offsetX / width));
    if (marking.brush && frame >= 0 && frame < frames) marking.put(marking.brush, frame);
  }
</script>

{#if marking.brush}
  <!-- By keyboard the hit at the playhead is marked, in the panel. -->
  <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
  <div class="brush" data-brush={marking.brush} onclick={mark}></div>
{/if}
{#each FATES as fate (fate)}
  {#each marking.of(fate) as frame (frame)}
    {@const at = span.share(frame)}
    {#if at >= 0 && at <= 1}
      <div class="mark" class:refuse={fate === 'refuse'} style:left="{100 * at}%">
        <button
          aria-label="Take the mark at {figure(frame / rate, 2)} s away: {fate}"
          title="{figure(frame / rate, 2)} s: take this mark away"
          onclick={() => marking.remove(fate, frame)}>{fate}</button
        >
      </div>
    {/if}
  {/each}
{/each}

<style>
  .brush {
    position: absolute;
    inset: 0;
    cursor: crosshair;
  }
  .mark {
    position: absolute;
    top: 0;
    bottom: 44px;
    border-left: 2px solid var(--ink);
    pointer-events: none;
  }
  .mark.refuse {
    border-left-style: dashed;
  }
  button {
    padding: 0 3px;
    font-size: var(--small);
    line-height: 14px;
    background: var(--ink);
    color: var(--field);
    pointer-events: auto;
  }
  .refuse button {
    top: 16px;
    position: relative;
    background: var(--field);
    color: var(--ink);
    border: 1px dashed var(--ink);
    border-left: 0;
  }
</style>
