<script lang="ts">
  import { api, bringIn, openBundle, Refusal } from '../lib/api';
  import Checkbox from '../components/Checkbox.svelte';
  import { clock } from '../lib/figures';
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

  interface Coming {
    name: string;
    share: number;
    said: string;
  }
  let sessions = $state.raw<SessionItem[]>([]);
  let name = $state('');
  let busy = $state('');
  let problem = $state<string | null>(null);
  let coming = $state<Coming[]>([]);
  let chooser: HTMLInputElement | undefined = $state();
  let over = $state(false);
  let withPrints = $state(false);

  $effect(() => void load());
  $effect(() => {
    if (dropped.length === 0) return;
    const files = dropped;
    ontaken();
    void take(files);
  });
  $effect(() =>
    live.onEvent((event) => {
      if (event.type !== 'brought_in') return;
      const item = coming.find((c) => c.name === event.name);
      if (item) item.share = 0.5 + event.progress / 2;
    }),
  );

  async function load(): Promise<void> {
    sessions = await api.sessions().catch((e: Error) => {
      problem = e.message;
      return [];
    });
  }

  async function doing(words: string, answer: Promise<SessionState>): Promise<void> {
    busy = words;
    try {
      onopen(await answer);
    } catch (error) {
      problem = said(error);
    }
    busy = '';
    await load();
  }

  function said(error: unknown): string {
    return error instanceof Refusal ? error.message : String(error);
  }

  /** Puts a session together as one file, and saves that. */
  async function bundle(item: SessionItem): Promise<void> {
    busy = `Putting “${item.name}” together`;
    problem = null;
    try {
      await api.bundle(item.id, withPrints);
      const link = document.createElement('a');
      link.href = `/api/sessions/${item.id}/bundle`;
      link.download = `${item.name}.zip`;
      link.click();
    } catch (error) {
      problem = said(error);
    }
    busy = '';
  }

  /** A bundle is a session of its own. */
  async function open(file: File): Promise<void> {
    problem = null;
    const item: Coming = $state({ name: file.name, share: 0, said: '' });
    coming = [item];
    busy = `Taking the recordings of ${file.name} in`;
    try {
      const state = await openBundle(file, (share) => (item.share = share));
      coming = [];
      onopen(state);
    } catch (error) {
      item.said = 'not opened';
      problem = said(error);
    }
    busy = '';
    await load();
  }

  /** Files go into the open session, or into a new one named after the first. */
  async function take(files: File[]): Promise<void> {
    const bundled = files.find((f) => f.name.toLowerCase().endsWith('.zip'));
    if (bundled) {
      if (files.length === 1) await open(bundled);
      else problem = `${bundled.name} is a bundle: open it by itself.`;
      return;
    }
    problem = null;
    let state = current;
    try {
      state ??= await api.newSession(
        name.trim() || (files[0]?.name ?? 'New session').replace(/\.[^.]*$/, ''),
        null,
      );
    } catch (error) {
      problem = String(error);
      return;
    }
    live.send({ type: 'open', session: state.id });
    coming = files.map((f) => ({ name: f.name, share: 0, said: 'waiting' }));
    let taken = 0;
    let cues: Cues | null = null;
    for (const [index, file] of files.entries()) {
      const item = coming[index];
      if (!item) continue;
      item.said = '';
      try {
        const answer = await bringIn(state.id, file, (share) => (item.share = share / 2));
        state = answer.state;
        if (answer.markers.length > (cues?.markers.length ?? 0))
          cues = { file: file.name, markers: answer.markers };
        item.share = 1;
        item.said = answer.said ?? 'brought in';
        taken += 1;
      } catch (error) {
        item.said = said(error);
        problem = problem ? `${problem} ${item.said}` : item.said;
      }
    }
    await load();
    // What is good is opened; what was refused is said there.
    if (taken > 0) onopen(state, problem, cues);
    else if (taken === 0 && !current) {
      await api.removeSession(state.id);
      await load();
    }
  }

  function drop(event: DragEvent): void {
    event.preventDefault();
    over = false;
    void take([...(event.dataTransfer?.files ?? [])]);
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
                disabled={busy !== ''}
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
    <div
      class="drop"
      class:over
      role="region"
      aria-label="Drop audio files here"
      ondragover={(e) => {
        e.preventDefault();
        over = true;
      }}
      ondragleave={() => (over = false)}
      ondrop={drop}
    >
      <p>Drop files here, or <button onclick={() => chooser?.click()}>choose them</button>.</p>
      <p class="note">
        WAV, FLAC, AIFF, OGG, MP3; mono or stereo. They go into
        {current ? `“${current.model.name}”` : 'a new session'} as tracks.
        {#if current && current.frames > 0}
          It runs at {current.model.rate / 1000} kHz: files of another rate are converted to that.
        {:else}
          The first file sets the session’s rate for good; files of another rate are converted to
          it. Bring one of the rate that you want to print in first.
        {/if}
        A bundle (zip) is opened as a session of its own.
      </p>
      <input
        bind:this={chooser}
        type="file"
        multiple
        hidden
        accept=".wav,.flac,.aif,.aiff,.ogg,.mp3,.zip,audio/*"
        onchange={(e) => void take([...(e.currentTarget.files ?? [])])}
      />
    </div>
    {#each coming as item (item.name)}
      <div class="coming">
        <span>{item.name}</span>
        <progress max="1" value={item.share}></progress>
        <span class="note">{item.said}</span>
      </div>
    {/each}
    {#if problem}<p role="alert" class="problem">{problem}</p>{/if}
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
    {#if busy}<p class="note" role="status">{busy} …</p>{/if}
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
  .drop {
    padding: var(--s5);
    border: 1px dashed var(--edge);
    background: var(--field);
  }
  .drop button {
    text-decoration: underline;
  }
  .over {
    border: 1px solid var(--ink);
    background: var(--ochre-soft);
  }
  .coming {
    display: grid;
    grid-template-columns: 1fr 120px;
    gap: 2px var(--s3);
    margin-top: var(--s2);
  }
  .coming .note {
    grid-column: 1 / -1;
  }
  progress {
    width: 100%;
    accent-color: var(--ink);
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
