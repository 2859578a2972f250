<script lang="ts">
  import { untrack } from 'svelte';
  import { api } from '../lib/api';
  import { Arrivals, said } from '../lib/arrivals.svelte';
  import DropZone from './DropZone.svelte';
  import SessionList from './SessionList.svelte';
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
  async function bundle(item: SessionItem, withPrints: boolean): Promise<void> {
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
</script>

<main class="sessions">
  <section class="list">
    <h1>Sessions</h1>
    {#if sessions.length === 0}
      <p class="note">None yet. Bring in audio, or open the demo to look around.</p>
    {:else}
      <SessionList
        {sessions}
        current={current?.id}
        busy={arrivals.busy !== ''}
        onopen={(item) => void doing('Opening', api.session(item.id))}
        onbundle={(item, withPrints) => void bundle(item, withPrints)}
        onremove={(item) => void api.removeSession(item.id).then(load)}
      />
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
        maxlength="80"
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
  .note {
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
