<script lang="ts">
  import Dialog from '../components/Dialog.svelte';
  import type { Target } from '../lib/types';

  interface Props {
    start: Target | null;
    onkeep: (target: Target) => Promise<boolean>;
    onclose: () => void;
  }
  let { start, onkeep, onclose }: Props = $props();

  const FIELDS = [
    ['loudness', 'Loudness', 'LUFS'],
    ['tolerance', 'may be off by', 'LU'],
    ['true_peak', 'True peak at most', 'dBTP'],
    ['least_range', 'Range at least', 'LU'],
    ['most_range', 'Range at most', 'LU'],
    ['least_peak_to_loudness', 'Peak to loudness at least', 'LU'],
    ['most_short_term', 'Short-term at most', 'LUFS'],
    ['most_momentary', 'Momentary at most', 'LUFS'],
  ] as const;
  let name = $state('');
  // svelte-ignore state_referenced_locally
  let values = $state(
    Object.fromEntries(
      FIELDS.map(([key]) => [key, start?.[key] == null ? '' : String(start[key])]),
    ),
  );
  let why = $state('');

  async function keep(): Promise<void> {
    const numbers: Record<string, number | null> = {};
    for (const [key, label] of FIELDS) {
      const text = (values[key] ?? '').replace('−', '-').replace(',', '.').trim();
      const value = text === '' ? null : Number(text);
      if (value !== null && !Number.isFinite(value)) {
        why = `${label}: “${text}” is not a number`;
        return;
      }
      numbers[key] = value;
    }
    const target = { name, note: '', ...numbers, tolerance: numbers.tolerance ?? 0.5 } as Target;
    if (await onkeep(target)) onclose();
    else why = 'It was not kept; the reason stands below.';
  }
</script>

<Dialog title="A target of your own" {onclose}>
  <form
    onsubmit={(e) => {
      e.preventDefault();
      void keep();
    }}
  >
    <label>Name <input bind:value={name} required maxlength="80" /></label>
    {#each FIELDS as [key, label, unit] (key)}
      <label
        >{label}
        <span
          ><input bind:value={values[key]} inputmode="decimal" placeholder="no limit" />
          {unit}</span
        >
      </label>
    {/each}
    {#if why}<p role="alert">{why}</p>{/if}
    <button class="primary">Keep it</button>
  </form>
</Dialog>

<style>
  form {
    display: grid;
    gap: var(--s2);
    justify-items: start;
  }
  label {
    display: grid;
    grid-template-columns: 190px 200px;
  }
  input {
    background: var(--ground);
    border-bottom: 1px solid var(--edge);
    padding: 1px var(--s1);
    width: 110px;
  }
</style>
