<script lang="ts">
  interface Props {
    label: string;
    start: string;
    onfinish: (text: string | null) => void;
  }
  let { label, start, onfinish }: Props = $props();

  // svelte-ignore state_referenced_locally
  let text = $state(start);
  let over = false;

  /** Enter and leaving keep what is typed, Escape drops it; once. */
  function finish(kept: string | null): void {
    if (over) return;
    over = true;
    onfinish(kept);
  }
</script>

<input
  {@attach (node: HTMLInputElement) => node.focus()}
  aria-label="{label}, typed"
  bind:value={text}
  onblur={() => finish(text)}
  onkeydown={(e) => {
    e.stopPropagation();
    if (e.key === 'Enter') finish(text);
    if (e.key === 'Escape') finish(null);
  }}
/>

<style>
  input {
    width: 72px;
    height: 18px;
    padding: 0 4px;
    background: var(--field);
    border: 1px solid var(--key);
    text-align: right;
  }
</style>
