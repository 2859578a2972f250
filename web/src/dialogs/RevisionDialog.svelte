<script lang="ts">
  import Dialog from '../components/Dialog.svelte';
  import { api } from '../lib/api';
  import { onDestroy, untrack } from 'svelte';
  import { Earlier } from '../lib/earlier.svelte';
  import type { Live } from '../lib/live.svelte';
  import type { RevisionItem } from '../lib/types';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    play: () => void;
    onclose: () => void;
  }
  let { work, live, play, onclose }: Props = $props();
  const earlier = untrack(() => new Earlier(work, live));
  onDestroy(() => earlier.close());

  let revisions = $state.raw<RevisionItem[]>([]);
  let naming = $state<number | null>(null);
  let name = $state('');
  /** Of which revision the differences are shown, and what they are. */
  let compared = $state<number | null>(null);
  let words = $state.raw<string[] | null>(null);

  $effect(() => {
    void work.state?.revision;
    untrack(() => earlier.changed());
    void load();
  });

  async function load(): Promise<void> {
    if (work.state) revisions = await api.revisions(work.state.id);
    if (compared !== null) await differ(compared);
  }

  async function differ(id: number): Promise<void> {
    if (!work.state) return;
    if (compared !== id) words = null;
    compared = id;
    words = await api.differences(work.state.id, id);
  }

  async function keepName(id: number): Promise<void> {
    if (!work.state) return;
    await api.nameRevision(work.state.id, id, name.trim() || null);
    naming = null;
    await load();
  }

  function back(id: number): void {
    void work.change((at) => api.backTo(at.id, id));
  }
</script>

<Dialog title="Revisions" {onclose}>
  <p class="hearing">
    <button onclick={play}>{live.transport.playing ? 'Stop' : 'Play'}</button>
    <button aria-pressed={earlier.heard === null} onclick={() => earlier.hear(null)}
      >Hear what stands</button
    >
    <output aria-live="polite">{earlier.words}</output>
  </p>
  <ul>
    {#each revisions as item (item.id)}
      <li class:current={item.current}>
        <span class="when">{new Date(item.created_at * 1000).toLocaleTimeString()}</span>
        <span class="words">
          {#if item.name}<b>{item.name}</b> ·
          {/if}{item.words}
        </span>
        {#if naming === item.id}
          <input
            aria-label="Name of this revision"
            bind:value={name}
            onkeydown={(e) => {
              if (e.key === 'Enter') void keepName(item.id);
            }}
          />
          <button onclick={() => void keepName(item.id)}>Keep</button>
        {:else}
          <button
            onclick={() => {
              naming = item.id;
              name = item.name ?? '';
            }}>Name</button
          >
        {/if}
        {#if item.current}
          <span class="here">here</span>
        {:else}
          <button aria-pressed={earlier.heard === item.id} onclick={() => earlier.hear(item.id)}
            >Hear</button
          >
          <button
            aria-expanded={compared === item.id}
            onclick={() => (compared === item.id ? (compared = null) : void differ(item.id))}
            >What differs</button
          >
          <button onclick={() => back(item.id)}>Go back</button>
        {/if}
      </li>
      {#if compared === item.id && words && !item.current}
        <li class="differences">
          <p>
            {words.length === 0 ? 'Now nothing is different.' : 'Now:'}
            {words.join('; ')}
          </p>
        </li>
      {/if}
    {/each}
  </ul>
</Dialog>

<style>
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  li {
    display: flex;
    gap: var(--s3);
    padding: 3px 0;
    border-top: 1px solid var(--hair);
  }
  .hearing {
    display: flex;
    gap: var(--s3);
    margin: 0 0 var(--s2);
  }
  [aria-pressed='true'] {
    background: var(--ink);
    color: var(--field);
    text-decoration: none;
    padding: 0 var(--s1);
  }
  .current {
    background: var(--ochre-soft);
  }
  .differences p {
    margin: 0 0 var(--s2) var(--s4);
  }
  .when,
  .here {
    color: var(--muted);
  }
  .words {
    flex: 1;
    min-width: 0;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  button {
    text-decoration: underline;
  }
  input {
    border: 1px solid var(--key);
    background: var(--ground);
    padding: 0 var(--s1);
  }
</style>
