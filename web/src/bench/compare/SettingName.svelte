<script lang="ts">
  interface Props {
    slot: string;
    name: string;
    onname: (name: string) => void;
  }
  let { slot, name, onname }: Props = $props();

  let typed = $state<string | null>(null);

  function keep(): void {
    if (typed !== null) onname(typed.trim());
    typed = null;
  }

  function key(event: KeyboardEvent): void {
    if (event.key === 'Enter') keep();
    else if (event.key === 'Escape') typed = null;
    else return;
    event.stopPropagation();
  }

  function ready(input: HTMLInputElement): void {
    input.focus();
    input.select();
  }
</script>

{#if typed !== null}
  <input
    aria-label="Name of setting {slot}"
    maxlength="80"
    bind:value={typed}
    use:ready
    onkeydown={key}
    onblur={keep}
  />
{:else}
  <button
    class:none={!name}
    aria-label="{name || 'no name'}, setting {slot}"
    title="A click, or Enter, names it"
    onclick={() => (typed = name)}>{name || 'no name'}</button
  >
{/if}

<style>
  input {
    width: 100%;
    border: 1px solid var(--key);
    background: var(--field);
    color: var(--ink);
    padding: 0 var(--s1);
  }
  button {
    font-weight: 600;
  }
  .none {
    font-weight: 400;
    opacity: 0.75;
  }
</style>
