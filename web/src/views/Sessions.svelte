<script lang="ts">
  import { untrack } from 'svelte';
  import { api } from '../lib/api';
  import Checkbox from '../components/Checkbox.svelte';
  import { Arrivals, said } from '../lib/arrivals.svelte';
  import { clock } from '../lib/figures';
  import DropZone from './DropZone.svelte';
  import type { Live } from '../lib/live.svelte';
  import type { SessionItem, SessionState } from '../lib/types';
  import type { Cues } from '../lib/work.svelte';

  interface Props {
    live: Live;
    dropped: File[];
    current: SessionState | null;
    onopen: (state: SessionState, refused?: string | null, cues?: Cues | null) => void;
    ontaken: () => void;
  }
  let { live, dropped, current, onopen, ontaken }: Props = $props();

  let sessions = $state.raw<SessionItem[]>([]);
  let name = $state('');
  let withPrints = $state(false);
  const arrivals = untrack(
    () =>
      new Arrivals(live, {
        current: () => current,
        title: () => name.trim(),
        opened: (...what) => onopen(...what),
        changed: load,
      }),
  );

  $effect(() => void load());
  $effect(() => {
    if (dropped.length === 0) return;
    const files = dropped;
    ontaken();
    void arrivals.take(files);
  });

  async function load(): Promise<void> {
    sessions = await api.sessions().catch((e: Error) => {
      arrivals.problem = e.message;
      return [];
    });
  }

  async function doing(words: string, answer: Promise<SessionState>): Promise<void> {
    arrivals.busy = words;
    try {
      onopen(await answer);
    } catch (error) {
      arrivals.problem = said(error);
    }
    arrivals.busy = '';
    await load();
  }

  /** Puts a session together as one file, and saves that. */
  async function bundle(item: SessionItem): Promise<void> {
    arrivals.busy = `Putting “${item.name}” together`;
    arrivals.problem = null;
    try {
      await api.bundle(item.id, withPrints);
      const link = document.createElement('a');
      link.href = `/api/sessions/${item.id}/bundle`;
      link.download = `${item.name}.zip`;
      link.click();
    } catch (error) {
      arrivals.problem = said(error);
    }
    arrivals.busy = '';
  }

  function when(seconds: number): string {
    return new Date(seconds * 1000).toLocaleString([], { dateStyle: 'medium', timeStyle: 'short' });
  }
</script>

<main class="sessions">
  <section class="list">
    <h1>Sessions</h1>
    {#if sessions.length === 0}
      <p class="note">None yet. Bring in audio, or open the demo to look around.</p>
    {/if}
    <table>
      <tbody>
        {#each sessions as item (item.id)}
          <tr class:current={item.id === current?.id}>
            <td
              ><button
                class="open"
                data-session={item.id}
                onclick={() => void doing('Opening', api.session(item.id))}>{item.name}</button
              ></td
            >
            <td>{item.strips} strips</td>
            <td>{clock(item.seconds * 1000, 1000).slice(0, -4)}</td>
            <td class="note">{when(item.touched_at)}</td>
            <td
              ><button
                class="small"
                aria-label="Save {item.name} as a bundle"
                title="All of it as one open file: the session, its recordings, its chains as recipes"
                disabled={arrivals.busy !== ''}
                onclick={() => void bundle(item)}>Bundle</button
              ></td
            >
            <td
              ><button
                class="small"
                aria-label="Delete {item.name}"
                onclick={() => {
                  if (confirm(`Delete “${item.name}”? Its recordings stay in the media folder.`))
                    void api.removeSession(item.id).then(load);
                }}>Delete</button
              ></td
            >
          </tr>
        {/each}
      </tbody>
    </table>
    {#if sessions.length > 0}
      <div class="bundles">
        <Checkbox
          on={withPrints}
          label="bundles take prints along"
          onswitch={(on) => (withPrints = on)}
        />
        <span class="note">A bundle opens on another machine, and prints the same bytes there.</span
        >
      </div>
    {/if}
  </section>
  <section class="new">
    <h2>Bring in audio</h2>
    <DropZone {current} coming={arrivals.coming} onfiles={(files) => void arrivals.take(files)} />
    {#if arrivals.problem}<p role="alert" class="problem">{arrivals.problem}</p>{/if}
    <h2>New session</h2>
    <form
      onsubmit={(e) => {
        e.preventDefault();
        void doing('Making it', api.newSession(name.trim() || 'New session', null));
      }}
    >
      <input
        aria-label="Name of the new session"
        placeholder="Name of the song"
        bind:value={name}
      />
      <button>Make it</button>
    </form>
    <h2>Demo</h2>
    <p class="note">
      A six-piece dance band recorded live in a boathouse, with the faults that this program is for:
      bleed, a stray slap, boom, hard s-sounds, a plate that rings, a quiet verse and a loud reel.
    </p>
    <button class="demo" onclick={() => void doing('Making the demo session', api.demo())}
      >Open the demo</button
    >
    {#if arrivals.busy}<p class="note" role="status">{arrivals.busy} …</p>{/if}
  </section>
</main>

<style>
  .bundles {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: var(--s2) var(--s4);
    margin-top: var(--s4);
  }
  .sessions {
    display: grid;
    grid-template-columns: minmax(0, 1fr) minmax(320px, 420px);
    gap: 48px;
    padding: 32px 48px;
    overflow-y: auto;
  }
  h1 {
    font-size: var(--title);
    margin-bottom: var(--s4);
  }
  h2 {
    font-size: var(--heading);
    margin: var(--s5) 0 var(--s2);
  }
  .new h2:first-child {
    margin-top: 0;
  }
  table {
    width: 100%;
    border-collapse: collapse;
  }
  td {
    padding: var(--s2) var(--s4) var(--s2) 0;
    border-bottom: 1px solid var(--hair);
    white-space: nowrap;
  }
  td:first-child {
    width: 100%;
  }
  .open {
    white-space: normal;
    overflow-wrap: anywhere;
    text-align: left;
    font-weight: 600;
    font-size: var(--heading);
  }
  .open:hover {
    text-decoration: underline;
  }
  .current {
    background: var(--ochre-soft);
  }
  .note,
  .small {
    color: var(--muted);
  }
  .problem {
    margin-top: var(--s2);
    padding-left: var(--s2);
    border-left: 3px double var(--ink);
  }
  form {
    display: flex;
    gap: var(--s2);
  }
  form input {
    flex: 1;
    padding: 5px var(--s2);
    border: 1px solid var(--edge);
    background: var(--field);
  }
  form button,
  .demo {
    padding: 5px var(--s4);
    border: 1px solid var(--ink);
  }
  .demo {
    margin-top: var(--s2);
  }
  @media (max-width: 1150px) {
    .sessions {
      grid-template-columns: minmax(0, 1fr) minmax(280px, 320px);
      gap: 24px;
      padding: 24px;
    }
  }
</style>
