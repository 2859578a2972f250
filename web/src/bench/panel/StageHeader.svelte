<script lang="ts">
  import type { Snippet } from 'svelte';
  import type { StartingPoint } from '../../lib/types';

  /** What a stage is, and the starting point that is tried on it. */
  interface Props {
    title: string;
    strip: string;
    tried: StartingPoint | null;
    aiming: boolean;
    ontry: (step: number) => void;
    onaim: () => void;
    children?: Snippet;
  }
  let { title, strip, tried, aiming, ontry, onaim, children }: Props = $props();
</script>

<header>
  <h2>{title}</h2>
  <span class="where">on {strip}</span>
  {#if tried}
    <span class="tried" role="status">
      trying “{tried.name}”: {tried.note} <b>Enter</b> keeps, <b>Esc</b> restores
    </span>
  {:else}
    <span class="steps">
      starting points
      <button onclick={() => ontry(-1)} aria-label="Previous starting point">[</button>
      <button onclick={() => ontry(1)} aria-label="Next starting point">]</button>
    </span>
  {/if}
  <button
    class="aim"
    title="A: say what is wanted, and have the value found"
    aria-expanded={aiming}
    onclick={onaim}>aim</button
  >
  <span class="space"></span>
  {@render children?.()}
</header>

<style>
  header {
    grid-column: 1 / -1;
    display: flex;
    align-items: baseline;
    gap: var(--s3);
    min-width: 0;
    white-space: nowrap;
  }
  h2 {
    font-size: var(--heading);
  }
  .where,
  .steps {
    color: var(--muted);
  }
  .steps button {
    padding: 0 6px;
    border: 1px solid var(--hair);
  }
  .tried {
    color: var(--ochre);
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .space {
    flex: 1;
  }
  .aim {
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  @media (max-width: 1100px) {
    .where {
      display: none;
    }
    header {
      gap: var(--s2);
    }
  }
</style>
