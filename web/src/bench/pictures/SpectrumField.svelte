<script module lang="ts">
  export const TALL = 152;
</script>

<script lang="ts">
  import type { Snippet } from 'svelte';
  import { path } from '../../lib/spectrum';
  import HertzMarks from './HertzMarks.svelte';
  import { drag, type Gesture } from '../../lib/drag';

  interface Props {
    label: string;
    /** Levels that are filled, and those of the line over them. */
    fill: number[];
    line: number[];
    few?: boolean;
    /** Says whether something at this place is taken hold of. */
    grab: (x: number, width: number) => boolean;
    move: (x: number, width: number) => void;
    drop: () => void;
    children: Snippet<[number]>;
  }
  let { label, fill, line, few = false, grab, move, drop, children }: Props = $props();

  let width = $state(216);
  const gesture: Gesture<true> = {
    start: (at) => (grab(at.x, width) ? true : undefined),
    move: (_, at) => move(at.x, width),
    end: () => drop(),
  };
</script>

<div class="field" style:height="{TALL}px" bind:clientWidth={width}>
  <svg {width} height={TALL} role="group" aria-label={label} {@attach drag(gesture)}>
    {#if fill.length}<path
        class="fill"
        d="{path(fill, width, TALL)}L{width} {TALL}L0 {TALL}Z"
      />{/if}
    {#if line.length}<path class="line" d={path(line, width, TALL)} />{/if}
    <HertzMarks {width} height={TALL} {few} />
    {@render children(width)}
  </svg>
</div>

<style>
  .field {
    background: var(--field);
    border: 1px solid var(--hair);
    overflow: hidden;
    touch-action: none;
  }
  svg :global(text) {
    font-size: var(--mark);
    fill: var(--muted);
    pointer-events: none;
  }
  svg :global(text.value) {
    fill: var(--ink);
    font-weight: 600;
  }
  .fill {
    fill: var(--before);
    fill-opacity: 0.6;
    pointer-events: none;
  }
  .line {
    fill: none;
    stroke: var(--slate);
    stroke-width: 1.5;
    pointer-events: none;
  }
  svg :global(.range) {
    fill: var(--slate);
    fill-opacity: 0.12;
    cursor: grab;
  }
  svg :global(.edge) {
    stroke: var(--ink);
    stroke-width: 2;
    cursor: ew-resize;
  }
</style>
