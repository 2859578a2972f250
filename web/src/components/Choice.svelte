<script lang="ts">
  interface Props {
    label: string;
    options: string[];
    value: string;
    titles?: Record<string, string>;
    disabled?: string[];
    hidden?: boolean;
    onchoose: (value: string) => void;
  }
  let {
    label,
    options,
    value,
    titles = {},
    disabled = [],
    hidden = false,
    onchoose,
  }: Props = $props();
</script>

<div class="choice" role="radiogroup" aria-label={label}>
  {#if !hidden}<span class="label">{label}</span>{/if}
  <div class="options">
    {#each options as option (option)}
      <button
        type="button"
        role="radio"
        aria-checked={option === value}
        class:chosen={option === value}
        disabled={disabled.includes(option)}
        title={titles[option]}
        onclick={() => onchoose(option)}>{option}</button
      >
    {/each}
  </div>
</div>

<style>
  .choice {
    display: grid;
    gap: 2px;
    min-width: 0;
  }
  .label {
    color: var(--slate);
  }
  .options {
    display: flex;
    border: 1px solid var(--hair);
    background: var(--field);
  }
  button {
    flex: 1;
    padding: 2px var(--s1);
    text-align: center;
    white-space: nowrap;
    border-left: 1px solid var(--hair);
  }
  button:first-child {
    border-left: 0;
  }
  .chosen {
    background: var(--ink);
    color: var(--on-ink);
  }
</style>
