<script lang="ts">
  import PrintDialog from './bench/PrintDialog.svelte';
  import RevisionDialog from './bench/RevisionDialog.svelte';
  import TopBar, { type View } from './bench/TopBar.svelte';
  import { Span } from './bench/span.svelte';
  import Dialog from './components/Dialog.svelte';
  import TypedOver from './components/TypedOver.svelte';
  import { typing } from './lib/typing.svelte';
  import { isTyping, KEYS } from './lib/keys';
  import { Live } from './lib/live.svelte';
  import { sectionAt, sectionSpans } from './lib/sections';
  import { copy, cut, paste } from './lib/clipboard';
  import { applyTheme } from './lib/theme';
  import type { SessionState, Slot } from './lib/types';
  import { Work, type Cues } from './lib/work.svelte';
  import Bench from './views/Bench.svelte';
  import Desk from './views/Desk.svelte';
  import Lab from './views/Lab.svelte';
  import Sessions from './views/Sessions.svelte';
  import Surface from './views/Surface.svelte';

  const live = new Live();
  const work = new Work(live);
  const span = new Span(work);
  // For the tests, which record what the worklet plays.
  Object.assign(window, { saltAnvil: { live, work, span } });

  live.onEvent((event) => {
    if (event.type !== 'removed' || event.session !== work.state?.id) return;
    work.close('This session was deleted; the audio it used is kept.');
    view = 'sessions';
  });

  let view = $state<View>('sessions');
  let theme = $state(applyTheme(localStorage.getItem('theme')));
  let sheet = $state<'print' | 'revisions' | 'keys' | null>(null);
  let dropped = $state.raw<File[]>([]);
  /** Files are held over the page. */
  let over = $state(false);

  async function open(
    state: SessionState,
    refused: string | null = null,
    cues: Cues | null = null,
  ): Promise<void> {
    await work.open(state);
    work.problem = refused;
    work.cues = state.model.sections.length === 0 ? cues : null;
    span.whole();
    view = 'bench';
  }

  async function play(): Promise<void> {
    if (!work.state) return;
    if (live.transport.playing) {
      live.send({ type: 'stop' });
      live.send({ type: 'seek', frame: live.frame });
      return;
    }
    await live.start(work.rate);
    live.send({ type: 'play', frame: live.frame });
  }

  function loop(): void {
    if (live.transport.loop) {
      live.send({ type: 'loop', begin: null, end: null });
      return;
    }
    const spans = work.model ? sectionSpans(work.model, work.frames) : [];
    const { begin, end } = sectionAt(spans, live.frame) ?? { begin: 0, end: work.frames };
    live.send({ type: 'loop', begin, end });
  }

  function step(beats: number): void {
    const beat = (60 / (work.model?.bpm ?? 60)) * work.rate;
    const frame = Math.min(Math.max(Math.round(live.frame + beats * beat), 0), work.frames);
    live.frame = frame;
    live.send({ type: 'seek', frame });
  }

  function nextStrip(by: number): void {
    const rows = [...document.querySelectorAll<HTMLElement>('[data-strip]')];
    const at = rows.findIndex((r) => r.dataset.strip === work.stripId);
    const next = rows[Math.min(Math.max(at + by, 0), rows.length - 1)];
    if (next?.dataset.strip) work.select(next.dataset.strip);
  }

  function toggle(field: 'mute' | 'solo'): void {
    const strip = work.strip;
    if (!strip) return;
    const edits = work.together.map((s) => ({ strip: s.id, field, value: !strip[field] }));
    void work.edit(...edits.map((e) => ({ type: 'set_strip' as const, ...e })));
  }

  function bypass(): void {
    const { stage, split } = work;
    if (stage) void work.edit({ type: 'set_stage', stage: stage.id, on: !stage.on });
    if (split) void work.edit({ type: 'set_split', split: split.id, on: !split.on });
  }

  function slot(index: number): void {
    const name = (['A', 'B', 'C', 'D'] as Slot[])[index];
    if (work.stage && name) {
      void work.edit({ type: 'choose_slot', stage: work.stage.id, slot: name });
    }
  }

  const benchKeys: Record<string, (event: KeyboardEvent) => void> = {
    ' ': () => void play(),
    l: loop,
    ArrowLeft: (e) => step(e.shiftKey ? -0.25 : -1),
    ArrowRight: (e) => step(e.shiftKey ? 0.25 : 1),
    ArrowUp: () => nextStrip(-1),
    ArrowDown: () => nextStrip(1),
    x: () => live.hold('in'),
    c: () => live.hold('removed'),
    k: () => work.listenToKey(true),
    g: () => (live.same.on = !live.same.on),
    m: () => toggle('mute'),
    s: () => toggle('solo'),
    b: bypass,
    i: () => void work.addSection(live.frame),
    '[': () => work.tryPoint(-1),
    ']': () => work.tryPoint(1),
    Escape: () => work.dropTrying(),
    '+': () => span.zoom(0.8, Math.min(Math.max(span.share(live.frame), 0), 1)),
    '-': () => span.zoom(1.25, Math.min(Math.max(span.share(live.frame), 0), 1)),
  };

  function key(event: KeyboardEvent): void {
    if (isTyping(event.target) || sheet) return;
    const command = event.ctrlKey || event.metaKey;
    if (command && event.key.toLowerCase() === 'z' && view !== 'sessions') {
      event.preventDefault();
      void (event.shiftKey ? work.redo() : work.undo());
      return;
    }
    const clip = { c: () => copy(work), x: () => cut(work), v: () => void paste(work) };
    const clipped = command && view === 'bench' && clip[event.key.toLowerCase() as 'c'];
    if (clipped && !event.shiftKey && !window.getSelection()?.toString()) {
      event.preventDefault();
      clipped();
      return;
    }
    if (command || event.altKey) return;
    const digit = /^Digit([1-4])$/.exec(event.code);
    if (event.shiftKey && digit && view === 'bench') slot(Number(digit[1]) - 1);
    else if (event.key === '?') sheet = 'keys';
    else if (event.key === '1') view = 'sessions';
    else if (event.key === '2' && work.state) view = 'bench';
    else if (event.key === '3' && work.state) view = 'desk';
    else if (event.key === '5' && work.state) view = 'lab';
    else if (event.key === 'Enter' && work.tried) void work.keepTrying();
    else if (view !== 'sessions') {
      const pressed = event.target instanceof HTMLButtonElement && event.key === ' ';
      const act = benchKeys[event.key.length === 1 ? event.key.toLowerCase() : event.key];
      if (!act || (event.repeat && !event.key.startsWith('Arrow'))) return;
      if (pressed) event.target.blur();
      act(event);
    } else return;
    event.preventDefault();
  }

  function release(event: KeyboardEvent): void {
    if (['x', 'c'].includes(event.key.toLowerCase())) live.hold(null);
    if (event.key.toLowerCase() === 'k' && work.hearKey) work.listenToKey(false);
  }

  function dropFiles(event: DragEvent): void {
    event.preventDefault();
    over = false;
    if (view === 'sessions' || !event.dataTransfer?.files.length) return;
    take([...event.dataTransfer.files]);
  }

  function take(files: File[]): void {
    dropped = files;
    view = 'sessions';
  }

  const onSurface = location.hash === '#surface';

  function turn(): void {
    const other = theme === 'dark' ? 'light' : 'dark';
    localStorage.setItem('theme', other);
    theme = applyTheme(other);
  }
</script>

<svelte:window
  onkeydown={key}
  onkeyup={release}
  onblur={() => live.hold(null)}
  ondragover={(e) => {
    e.preventDefault();
    over = view !== 'sessions' && !!e.dataTransfer?.types.includes('Files');
  }}
  ondragleave={(e) => {
    if (!e.relatedTarget) over = false;
  }}
  ondrop={dropFiles}
/>

{#if onSurface}
  <Surface {live} />
{:else}
  <div class="page">
    <TopBar
      {work}
      {live}
      {view}
      {theme}
      onview={(v) => (view = v)}
      onplay={() => void play()}
      onloop={loop}
      onprint={() => (sheet = 'print')}
      onrevisions={() => (sheet = 'revisions')}
      ontheme={turn}
      onkeys={() => (sheet = 'keys')}
    />
    {#if view === 'bench' && work.model}
      <Bench {work} {live} {span} {theme} />
    {:else if view === 'lab' && work.model}
      <Lab {work} />
    {:else if view === 'desk' && work.model}
      <Desk {work} {live} onopen={() => (view = 'bench')} onfiles={take} />
    {:else}
      <Sessions
        {live}
        {dropped}
        current={work.state}
        onopen={(s, refused, cues) => void open(s, refused ?? null, cues ?? null)}
        ontaken={() => (dropped = [])}
      />
    {/if}
    {#if over && work.model}
      <div class="landing">
        Let go to add these files to “{work.model.name}” as tracks{work.frames > 0
          ? `, at ${work.rate / 1000} kHz`
          : '; the first one sets the session’s rate'}
      </div>
    {/if}
    {#if work.cues && view === 'bench'}
      <div class="problem offer" role="status">
        {work.cues.file} has {work.cues.markers.length} cue markers.
        <button onclick={() => void work.takeCues()}>Take them as sections</button>
        <button onclick={() => (work.cues = null)}>Leave them</button>
      </div>
    {/if}
    {#if work.problem}
      <div class="problem" role="alert">
        {work.problem} <button onclick={() => (work.problem = null)}>Close</button>
      </div>
    {/if}
  </div>
{/if}
{#if typing.over}{#key typing.over}<TypedOver over={typing.over} />{/key}{/if}
{#if sheet === 'print'}<PrintDialog {work} {live} onclose={() => (sheet = null)} />{/if}
{#if sheet === 'revisions'}<RevisionDialog {work} onclose={() => (sheet = null)} />{/if}
{#if sheet === 'keys'}
  <Dialog title="Keys" onclose={() => (sheet = null)}>
    <table class="keys">
      <tbody>
        {#each KEYS as [name, words] (name)}
          <tr><th>{name}</th><td>{words}</td></tr>
        {/each}
      </tbody>
    </table>
  </Dialog>
{/if}

<style>
  .page {
    position: relative;
    display: grid;
    grid-template-rows: 38px minmax(0, 1fr);
    height: 100%;
  }
  .landing {
    position: absolute;
    inset: 38px 0 0;
    display: grid;
    place-items: center;
    font-size: 15px;
    font-weight: 600;
    background: color-mix(in srgb, var(--ground) 88%, transparent);
    border: 3px dashed var(--ink);
    pointer-events: none;
    z-index: 9;
  }
  .problem {
    position: absolute;
    left: 50%;
    bottom: 16px;
    transform: translateX(-50%);
    max-width: 80%;
    padding: 8px 16px;
    background: var(--field);
    border: 1px solid var(--ink);
    border-left: 6px double var(--ink);
    z-index: 10;
  }
  .offer {
    bottom: 64px;
  }
  .problem button {
    margin-left: 12px;
    text-decoration: underline;
  }
  .keys th {
    text-align: left;
    padding: 2px 24px 2px 0;
    white-space: nowrap;
  }
</style>
