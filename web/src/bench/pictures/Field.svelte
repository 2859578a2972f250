<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    width: number;
    height: number;
    cursor?: string;
    children: Snippet;
  }
  let { width = $bindable(), height = $bindable(), cursor = 'default', children }: Props = $props();
</script>

<div class="field" style:cursor bind:clientWidth={width} bind:clientHeight={height}>
  {@render children()}
</div>

<style>
  .field {
    height: 100%;
    background: var(--field);
    border: 1px solid var(--hair);
    overflow: hidden;
    touch-action: none;
    user-select: none;
  }
</style>
