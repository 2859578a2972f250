<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    children: Snippet;
    caption: Snippet;
  }
  let { children, caption }: Props = $props();
</script>

<figure>
  {@render children()}
  <figcaption>{@render caption()}</figcaption>
</figure>

<style>
  figure {
    user-select: none;
    margin: 0;
    display: grid;
    grid-template-rows: minmax(0, 1fr) 17px;
    min-width: 0;
    min-height: 0;
  }
  figure > :global(svg) {
    width: 100%;
    height: 100%;
    min-height: 0;
    background: var(--field);
    border: 1px solid var(--hair);
    touch-action: none;
  }
  figure > :global(svg text) {
    font-size: var(--mark);
    fill: var(--muted);
  }
  figcaption {
    display: flex;
    justify-content: space-between;
    font-size: var(--small);
    color: var(--muted);
  }
</style>
