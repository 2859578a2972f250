<script lang="ts">
  interface Props {
    label: string;
    start: string;
    /** Takes what was typed, null for nothing; returns in words why it cannot be used. */
    onfinish: (text: string | null) => string | null;
  }
  let { label, start, onfinish }: Props = $props();

  // svelte-ignore state_referenced_locally
  let text = $state(start);
  let why = $state<string | null>(null);
  let over = false;

  /** Enter and leaving keep what is typed, Escape drops it; what is refused stays to be mended. */
  function finish(kept: string | null): void {
    if (over) return;
    over = true;
    why = onfinish(kept);
    over = why === null;
  }

  function leave(): void {
    // Nothing but the first character: that is no value, and no reason to hold anybody up.
    finish(text.trim() === '' ? null : text);
  }
</script>

<span class="typed">
  <input
    {@attach (node: HTMLInputElement) => node.focus()}
    aria-label="{label}, typed"
    aria-invalid={why !== null}
    bind:value={text}
    oninput={() => (why = null)}
    onblur={leave}
    onkeydown={(e) => {
      e.stopPropagation();
      if (e.key === 'Enter') finish(text);
      if (e.key === 'Escape') finish(null);
    }}
  />
  {#if why}<span class="why" role="alert">{why}</span>{/if}
</span>

<style>
  .typed {
    position: relative;
    display: inline-block;
  }
  input {
    width: 72px;
    height: 18px;
    padding: 0 var(--s1);
    background: var(--field);
    border: 1px solid var(--key);
    text-align: right;
  }
  .why {
    position: absolute;
    right: 0;
    top: 20px;
    width: 200px;
    padding: var(--s1) var(--s2);
    text-align: left;
    white-space: normal;
    font-weight: 400;
    font-size: var(--note);
    color: var(--ink);
    background: var(--field);
    border: 1px solid var(--ink);
    border-left: 4px double var(--ink);
    z-index: 20;
  }
</style>
