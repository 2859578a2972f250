<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    title: string;
    wide?: boolean;
    children: Snippet;
    onclose: () => void;
  }
  let { title, wide = false, children, onclose }: Props = $props();
  let sheet: HTMLDialogElement | undefined = $state();

  $effect(() => sheet?.showModal());
</script>

<dialog bind:this={sheet} class:wide aria-label={title} {onclose}>
  <header>
    <h2>{title}</h2>
    <button onclick={() => sheet?.close()}>Close</button>
  </header>
  {@render children()}
</dialog>

<style>
  dialog {
    width: min(620px, 92vw);
    max-height: 84vh;
    padding: var(--s4) 20px 20px;
    background: var(--field);
    color: var(--ink);
    border: 1px solid var(--ink);
    overflow-y: auto;
  }
  .wide {
    width: min(960px, 96vw);
  }
  dialog::backdrop {
    background: color-mix(in srgb, var(--ground) 70%, transparent);
  }
  header {
    display: flex;
    justify-content: space-between;
    margin-bottom: var(--s3);
  }
  h2 {
    font-size: var(--heading);
  }
</style>
