<script lang="ts">
  import Choice from '../components/Choice.svelte';
  import Dialog from '../components/Dialog.svelte';
  import Checkbox from '../components/Checkbox.svelte';
  import { api, Refusal } from '../lib/api';
  import { figure } from '../lib/figures';
  import type { Live } from '../lib/live.svelte';
  import type { PrintItem } from '../lib/types';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    onclose: () => void;
  }
  let { work, live, onclose }: Props = $props();

  type Format = 'wav-16' | 'wav-24' | 'wav-32f' | 'flac-16' | 'flac-24';
  let what = $state('main mix');
  let passage = $state('whole song');
  let format = $state<Format>('wav-24');
  let dither = $state(true);
  let prints = $state.raw<PrintItem[]>([]);
  let problem = $state<string | null>(null);

  const loop = $derived(live.transport.loop);
  const strip = $derived(work.strip);

  $effect(() => {
    void load();
    return live.onEvent((event) => {
      if (event.type === 'printed') void load();
    });
  });

  async function load(): Promise<void> {
    if (work.state) prints = await api.prints(work.state.id);
  }

  async function print(): Promise<void> {
    if (!work.state) return;
    const [begin, end] = passage === 'loop' && loop ? loop : [0, work.frames];
    const one = what === 'main mix' ? null : (strip?.id ?? null);
    const tap = what.includes('fader') ? 'fader' : 'chain';
    try {
      await api.print(work.state.id, { strip: one, tap, format, dither, begin, end });
      problem = null;
    } catch (error) {
      problem = error instanceof Refusal ? error.message : String(error);
    }
    await load();
  }

  function named(item: PrintItem): string {
    return (
      item.file ?? `${String(item.options.strip ?? 'main mix')}, ${String(item.options.format)}`
    );
  }
</script>

<Dialog title="Print" {onclose}>
  <div class="form">
    <Choice
      label="What"
      options={['main mix', `${strip?.name} after its chain`, `${strip?.name} after its fader`]}
      value={what}
      onchoose={(v) => (what = v)}
    />
    <Choice
      label="Passage"
      options={['whole song', 'loop']}
      value={passage}
      disabled={loop ? [] : ['loop']}
      onchoose={(v) => (passage = v)}
    />
    <Choice
      label="File"
      options={['wav-16', 'wav-24', 'wav-32f', 'flac-16', 'flac-24']}
      value={format}
      onchoose={(v) => (format = v as Format)}
    />
    <div class="last">
      <Checkbox
        on={dither && format !== 'wav-32f'}
        label="dither to the integer formats"
        onswitch={(on) => (dither = on)}
      />
      <button class="go" onclick={() => void print()}>Print</button>
    </div>
    {#if problem}<p role="alert">{problem}</p>{/if}
  </div>
  <ul>
    {#each prints as item (item.id)}
      <li data-print={item.id} data-state={item.state}>
        <span class="file">{named(item)}</span>
        {#if item.state === 'done'}
          <a href="/api/prints/{item.id}/file" download>Save</a>
        {:else if item.state === 'running' || item.state === 'waiting'}
          <progress max="1" value={item.progress}></progress>
          <span>{figure(item.progress * 100, 0)} %</span>
          <button onclick={() => void api.cancelPrint(item.id).then(load)}>Cancel</button>
        {:else}
          <span>{item.state}</span>
        {/if}
        {#if item.message}<span class="message">{item.message}</span>{/if}
      </li>
    {/each}
  </ul>
</Dialog>

<style>
  .form {
    display: grid;
    gap: 10px;
  }
  .last {
    display: flex;
    justify-content: space-between;
    align-items: center;
  }
  .go {
    padding: var(--s1) var(--s5);
    background: var(--ink);
    color: var(--on-ink);
  }
  ul {
    list-style: none;
    margin: var(--s4) 0 0;
    padding: 0;
  }
  li {
    display: flex;
    flex-wrap: wrap;
    gap: var(--s1) var(--s3);
    padding: var(--s1) 0;
    border-top: 1px solid var(--hair);
  }
  .file {
    flex: 1;
    min-width: 0;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  a {
    color: inherit;
  }
  .message {
    flex-basis: 100%;
    color: var(--muted);
  }
  progress {
    accent-color: var(--ink);
    width: 100px;
  }
</style>
