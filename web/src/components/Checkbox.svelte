<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    on: boolean;
    label: string;
    title?: string;
    children?: Snippet;
    onswitch: (on: boolean) => void;
  }
  let { on, label, title, children, onswitch }: Props = $props();
</script>

<button
  type="button"
  class="tick"
  role="switch"
  aria-checked={on}
  aria-label={label}
  {title}
  onclick={(event) => {
    event.stopPropagation();
    onswitch(!on);
  }}
>
  <span class="box"><span class:on></span></span>
  {#if children}{@render children()}{:else}{label}{/if}
</button>

<style>
  .tick {
    display: inline-flex;
    align-items: center;
    gap: var(--s2);
    white-space: nowrap;
  }
  .box {
    width: 13px;
    height: 13px;
    flex: none;
    border: 1px solid var(--ink);
    padding: 2px;
  }
  .box span {
    display: block;
    width: 100%;
    height: 100%;
  }
  .box .on {
    background: var(--ink);
  }
</style>
