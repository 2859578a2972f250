<script lang="ts">
  import PrintDialog from './dialogs/PrintDialog.svelte';
  import RevisionDialog from './dialogs/RevisionDialog.svelte';
  import KeysDialog from './dialogs/KeysDialog.svelte';
  import Notices from './views/Notices.svelte';
  import TopBar from './views/TopBar.svelte';
  import { Span } from './bench/timeline/span.svelte';
  import TypedOver from './components/TypedOver.svelte';
  import { typing } from './lib/typing.svelte';
  import { isTyping, press, release, shortcuts, type View } from './lib/shortcuts';
  import { Aiming } from './lib/aiming.svelte';
  import { Taming } from './lib/taming.svelte';
  import { Blind } from './lib/blind.svelte';
  import { Compare } from './lib/compare.svelte';
  import { Library } from './lib/library.svelte';
  import { Live } from './lib/live.svelte';
  import { applyTheme } from './lib/theme';
  import { Proving } from './lib/proving.svelte';
  import { Reference } from './lib/reference.svelte';
  import { Transport } from './lib/transport';
  import type { SessionState } from './lib/types';
  import { Work, type Cues } from './lib/work.svelte';
  import Bench from './views/Bench.svelte';
  import Desk from './views/Desk.svelte';
  import Lab from './views/Lab.svelte';
  import Proof from './views/Proof.svelte';
  import Sessions from './views/Sessions.svelte';
  import Surface from './views/Surface.svelte';

  const live = new Live();
  const work = new Work(live);
  const span = new Span(work);

  live.onEvent((event) => {
    if (event.type !== 'removed' || event.session !== work.state?.id) return;
    work.close('This session was deleted; the audio it used is kept.');
    view = 'sessions';
  });

  let view = $state<View>('sessions');
  const transport = new Transport(live, work, span);
  const compare = new Compare(work, live);
  const blind = new Blind(work, compare);
  const reference = new Reference(work, live);
  const aiming = new Aiming(work, live);
  const taming = new Taming(work, live, aiming);
  const proving = new Proving(work, live);
  const library = new Library(work, live, compare);
  // For the tests, which record what the worklet plays.
  Object.assign(window, {
    saltAnvil: { live, work, span, compare, blind, library, aiming, taming, reference, proving },
  });
  const keys = shortcuts({
    work,
    live,
    transport,
    compare,
    blind,
    library,
    aiming,
    reference,
    proving,
    show: (to) => (view = to),
    help: () => (sheet = 'keys'),
  });
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

  function key(event: KeyboardEvent): void {
    if (sheet) return;
    if (isTyping(event.target)) {
      // Out of what is typed into; the next Esc leaves what that stands in.
      if (event.key === 'Escape') event.target.blur();
      return;
    }
    if (!press(keys, event, view)) return;
    // Space would press the button that has the focus as well.
    if (event.target instanceof HTMLButtonElement && event.key === ' ') event.target.blur();
    event.preventDefault();
  }

  function dropFiles(event: DragEvent): void {
    event.preventDefault();
    over = false;
    if (view === 'sessions' || !event.dataTransfer?.files.length) return;
    if (view === 'proof') {
      const [file] = event.dataTransfer.files;
      if (file) void proving.bring(file);
      return;
    }
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
  onkeyup={(e) => release(keys, e)}
  onblur={() => {
    live.hold(null);
    void reference.hold(false);
  }}
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
      onplay={() => void transport.play()}
      onloop={() => transport.loop()}
      onprint={() => (sheet = 'print')}
      onrevisions={() => (sheet = 'revisions')}
      ontheme={turn}
      onkeys={() => (sheet = 'keys')}
    />
    {#if view === 'bench' && work.model}
      <Bench
        {work}
        {live}
        {span}
        {compare}
        {blind}
        {library}
        {aiming}
        {taming}
        {reference}
        {theme}
      />
    {:else if view === 'lab' && work.model}
      <Lab {work} />
    {:else if view === 'proof' && work.model}
      <Proof {work} {live} {proving} {reference} onprint={() => (sheet = 'print')} />
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
        {#if view === 'proof'}Let go to prove this file instead of the mix{:else}Let go to add these
          files to “{work.model.name}” as tracks{work.frames > 0
            ? `, at ${work.rate / 1000} kHz`
            : '; the first one sets the session’s rate'}{/if}
      </div>
    {/if}
    <Notices {work} offers={view === 'bench'} />
  </div>
{/if}
{#if typing.over}{#key typing.over}<TypedOver over={typing.over} />{/key}{/if}
{#if sheet === 'print'}<PrintDialog {work} {live} onclose={() => (sheet = null)} />{/if}
{#if sheet === 'revisions'}<RevisionDialog
    {work}
    {live}
    play={() => void transport.play()}
    onclose={() => (sheet = null)}
  />{/if}
{#if sheet === 'keys'}
  <KeysDialog {keys} onclose={() => (sheet = null)} />
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
    font-size: var(--heading);
    font-weight: 600;
    background: color-mix(in srgb, var(--ground) 88%, transparent);
    border: 3px dashed var(--ink);
    pointer-events: none;
    z-index: 9;
  }
</style>
