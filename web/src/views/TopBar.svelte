<script lang="ts">
  import DragNumber from '../components/DragNumber.svelte';
  import { barBeat, clock, figure } from '../lib/figures';
  import SoundState from './SoundState.svelte';
  import type { Live } from '../lib/live.svelte';
  import type { View } from '../lib/shortcuts';
  import type { Work } from '../lib/work.svelte';

  const NAMES = {
    sessions: 'Sessions',
    bench: 'Bench',
    desk: 'Desk',
    proof: 'Proof',
    lab: 'Lab',
  } as const;
  interface Props {
    work: Work;
    live: Live;
    view: View;
    theme: string;
    onview: (view: View) => void;
    onplay: () => void;
    onloop: () => void;
    onprint: () => void;
    onrevisions: () => void;
    ontheme: () => void;
    onkeys: () => void;
  }
  let {
    work,
    live,
    view,
    theme,
    onview,
    onplay,
    onloop,
    onprint,
    onrevisions,
    ontheme,
    onkeys,
  }: Props = $props();

  const model = $derived(work.model);
  let tempo = $state<number | null>(null);
  const bpm = $derived(tempo ?? model?.bpm ?? null);
</script>

<header class="top">
  <svelte:element this={view === 'sessions' ? 'b' : 'h1'} class="mark">Salt Anvil</svelte:element>
  <nav aria-label="Views">
    {#each ['sessions', 'bench', 'desk', 'proof', 'lab'] as const as name (name)}
      <button
        class:chosen={view === name}
        aria-current={view === name}
        disabled={name !== 'sessions' && !model}
        onclick={() => onview(name)}>{NAMES[name]}</button
      >
    {/each}
  </nav>
  {#if model && view !== 'sessions'}
    <button class="name" title="Revisions of this session" onclick={onrevisions}
      >{model.name}</button
    >
    <span class="space"></span>
    <button class="play" aria-label={live.transport.playing ? 'Stop' : 'Play'} onclick={onplay}>
      <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
        {#if live.transport.playing}<path d="M2 2h8v8h-8z" />{:else}<path
            d="M2 1L11 6L2 11Z"
          />{/if}
      </svg>
    </button>
    <button
      class="loop"
      class:on={live.transport.loop}
      aria-pressed={!!live.transport.loop}
      onclick={onloop}>loop</button
    >
    <span class="place" role="timer" aria-label="Position">
      {#if model.bpm}<b>{barBeat(live.frame, model.rate, model.bpm)}</b>{/if}
      <b>{clock(live.frame, model.rate)}</b>
    </span>
    <DragNumber
      label="Tempo"
      value={bpm}
      low={20}
      high={300}
      unit="bpm"
      reset={null}
      empty="none"
      text={bpm === null ? 'no tempo' : `${figure(bpm, bpm % 1 ? 1 : 0)} bpm`}
      onhold={(v) => (tempo = v ?? 0)}
      ondrop={() => {
        if (tempo === null) return;
        void work.edit({ type: 'set_session', bpm: tempo === 0 ? 'none' : tempo });
        tempo = null;
      }}
    />
    <button
      disabled={!work.state?.undo}
      title={work.state?.undo ?? ''}
      onclick={() => void work.undo()}>undo</button
    >
    <button
      disabled={!work.state?.redo}
      title={work.state?.redo ?? ''}
      onclick={() => void work.redo()}>redo</button
    >
    <button onclick={onprint}>print</button>
    <span class="loud" title="Main bus: loudness of the last 400 ms, true peak since play began">
      <b>{live.momentary > -100 ? figure(live.momentary, 1) : '–'}</b> LUFS
      <span class="wide"><b>{live.truePeak > -100 ? figure(live.truePeak, 1) : '–'}</b> dBTP</span>
    </span>
    <SoundState {live} rate={model.rate} bpm={model.bpm} />
  {:else}
    <span class="space"></span>
  {/if}
  {#if live.monitor.words.length}
    {@const words = live.monitor.words.join(', ')}
    <button
      class="missed between"
      title="Between the sound and the ear: {words}; click to hear it as it is"
      onclick={() => live.hearAll()}>{words}</button
    >
  {/if}
  {#if !live.connected}<span class="missed" role="status">not connected</span>{/if}
  <button onclick={ontheme} aria-label="Light or dark">{theme === 'dark' ? 'light' : 'dark'}</button
  >
  <button onclick={onkeys} aria-label="Keys">?</button>
</header>

<style>
  .top {
    display: flex;
    align-items: center;
    gap: 14px;
    height: 38px;
    padding: 0 var(--s3);
    border-bottom: 1px solid var(--ink);
    white-space: nowrap;
    min-width: 0;
  }
  .mark {
    font-size: inherit;
    font-weight: 700;
    margin: 0;
  }
  nav {
    display: flex;
  }
  nav button {
    padding: 3px 10px;
  }
  nav .chosen {
    background: var(--ink);
    color: var(--on-ink);
  }
  .name,
  .between {
    overflow: hidden;
    text-overflow: ellipsis;
    min-width: 64px;
  }
  .top > :global(*:not(.name):not(.between):not(.space)) {
    flex: none;
  }
  @media (max-width: 1199px) {
    .top {
      gap: var(--s2);
      padding: 0 var(--s2);
    }
    /* Still there for who does not look. */
    .mark {
      position: absolute;
      clip-path: inset(50%);
    }
    nav button {
      padding: 3px 6px;
    }
    .between {
      min-width: 24px;
    }
    .loud {
      min-width: 0;
    }
    .wide {
      display: none;
    }
  }
  .space {
    flex: 1;
  }
  .play {
    display: grid;
    place-items: center;
    width: 32px;
    height: 26px;
    border: 1px solid var(--ink);
  }
  .play path {
    fill: var(--ink);
  }
  .loop {
    color: var(--muted);
  }
  .loop.on {
    color: var(--ochre);
    font-weight: 600;
  }
  .place {
    display: inline-flex;
    gap: 10px;
    min-width: 112px;
    justify-content: end;
  }
  .loud {
    min-width: 148px;
    text-align: right;
    color: var(--muted);
  }
  .loud b {
    color: var(--ink);
  }
  .missed {
    font-weight: 600;
    border-bottom: 3px double var(--ink);
  }
</style>
