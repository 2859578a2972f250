<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    label: string;
    /** An input or a select. */
    children: Snippet;
  }
  let { label, children }: Props = $props();
</script>

<label>
  {label}
  {@render children()}
</label>

<style>
  label {
    display: grid;
    gap: 2px;
    color: var(--slate);
  }
  label > :global(:is(select, input)) {
    color: var(--ink);
    background: var(--ground);
    border-bottom: 1px solid var(--edge);
    padding: 2px var(--s1);
    min-width: 0;
  }
</style>
