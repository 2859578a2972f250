<script lang="ts">
  import { figure, signed } from '../../lib/figures';
  import type { Library, Place } from '../../lib/library.svelte';
  import type { Live } from '../../lib/live.svelte';
  import type { CompareRow, LibraryItem } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import KeySource from '../panel/KeySource.svelte';

  interface Props {
    work: Work;
    live: Live;
    library: Library;
  }
  let { work, live, library }: Props = $props();

  const item = $derived(library.item);
  const figures: [string, (row: CompareRow | null) => number | null | undefined][] = [
    ['loudness, LUFS', (r) => r?.figures?.integrated_lufs],
    ['true peak, dBTP', (r) => r?.figures?.true_peak_dbtp],
    ['peak to loudness, dB', (r) => r?.figures?.peak_to_loudness_db],
    ['range, LU', (r) => r?.figures?.loudness_range_lu],
  ];
  const now = $derived(library.row('stands'));
  const tried = $derived(library.row('tried'));

  function number(value: number | null | undefined): string {
    return value === null || value === undefined ? '–' : figure(value, 1);
  }

  function change(of: (typeof figures)[number][1]): string {
    const [a, b] = [of(now), of(tried)];
    return a == null || b == null ? '' : signed(b - a);
  }

  function carryOut(wanted: LibraryItem): void {
    const link = document.createElement('a');
    const text = JSON.stringify(wanted.recipe, null, 2);
    link.href = URL.createObjectURL(new Blob([text], { type: 'application/json' }));
    link.download = `${wanted.name}.json`;
    link.click();
    URL.revokeObjectURL(link.href);
  }
</script>

<div class="detail">
  {#if !item}
    <p>
      Choose one, or step with <kbd>[</kbd> <kbd>]</kbd>: it is heard at once, in its place, as loud
      as what stands. Nothing is changed until it is kept.
    </p>
    {#if library.gone}
      <p>
        “{library.gone.name}” is gone.
        <button class="link" onclick={() => void library.bringBack()}>bring it back</button>
      </p>
    {/if}
  {:else}
    <h3>{item.name}</h3>
    <p>{item.problem ?? item.note}</p>
    <p class="words">{item.words}{item.tags.length ? ` · ${item.tags.join(', ')}` : ''}</p>
    {#if !item.problem}
      {#each item.inputs as name (name)}
        <p class="line">
          <span class="key">{name} is</span>
          <KeySource
            strips={work.model?.strips ?? []}
            titleOf={work.titleOf}
            label="Signal for {name}"
            value={library.inputs[name] ?? ''}
            onchoose={async (source) => {
              library.inputs = { ...library.inputs, [name]: source };
            }}
          />
        </p>
      {/each}
      <p class="line">
        <span>goes</span>
        <select
          aria-label="Where it goes"
          value={library.place}
          onchange={(e) => (library.wanted = e.currentTarget.value as Place)}
        >
          {#each library.places as [place, words] (place)}
            <option value={place}>{words}</option>
          {/each}
        </select>
      </p>
      <table>
        <thead>
          <tr>
            <th>{live.transport.loop ? 'in the loop' : 'whole song'}</th>
            <th>stands</th><th>tried</th><th>by</th>
          </tr>
        </thead>
        <tbody>
          {#each figures as [words, of] (words)}
            <tr>
              <th>{words}</th>
              <td>{number(of(now))}</td>
              <td>{number(of(tried))}</td>
              <td class="by">{change(of)}</td>
            </tr>
          {/each}
        </tbody>
      </table>
      <p class="words" role="status">
        {#if library.unbound.length}
          choose what {library.unbound.join(', ')} is; it is heard then
        {:else if tried?.problem}
          {tried.problem}
        {:else if tried?.plays_db == null}
          being measured
        {:else if live.same.on}
          plays {signed(library.plays(item.id) ?? 0)} dB, as loud as all that was tried here
        {:else}
          plays as loud as it is (G: same loudness)
        {/if}
      </p>
    {/if}
    <div class="acts">
      <button class="keep" disabled={!library.edit} onclick={() => void library.keep()}>
        Keep it
      </button>
      <button class="link" onclick={() => library.try(null)}>put back</button>
      {#if !item.problem}
        <button class="link" onclick={() => carryOut(item)}>file</button>
      {/if}
      {#if !item.ours}
        {#if !item.problem}
          <button class="link" onclick={() => (library.saving = true)}>words</button>
        {/if}
        <button class="link" onclick={() => void library.remove(item)}>delete</button>
      {/if}
    </div>
  {/if}
</div>

<style>
  .detail {
    border-left: 1px solid var(--hair);
    padding: 6px 14px;
    overflow-y: auto;
    min-height: 0;
    font-size: var(--note);
  }
  h3 {
    font-size: inherit;
    margin: 0;
  }
  p {
    margin: 0 0 var(--s2);
  }
  .words,
  thead th {
    color: var(--muted);
  }
  .line {
    display: grid;
    grid-template-columns: 90px 1fr;
    align-items: baseline;
  }
  .key {
    color: var(--key);
  }
  select {
    background: var(--field);
    border: 1px solid var(--hair);
    color: inherit;
    min-width: 0;
  }
  table {
    width: 100%;
    border-collapse: collapse;
    margin-bottom: var(--s2);
  }
  th,
  td {
    text-align: right;
    font-weight: 400;
    padding: 1px 0;
    border-bottom: 1px solid var(--hair);
  }
  th:first-child {
    text-align: left;
  }
  .by {
    width: 44px;
    font-weight: 600;
  }
  .acts {
    display: flex;
    align-items: baseline;
    gap: var(--s3);
  }
  .link {
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  .keep {
    background: var(--ink);
    color: var(--on-ink);
    padding: 3px 14px;
    font-weight: 600;
  }
  .keep:disabled {
    opacity: 0.45;
  }
  kbd {
    font: inherit;
    border: 1px solid var(--hair);
    padding: 0 3px;
  }
</style>
