<script lang="ts">
  import { onDestroy } from 'svelte';
  import { api, Refusal } from '../lib/api';
  import { figure } from '../lib/figures';
  import type { Live } from '../lib/live.svelte';
  import { newest } from '../lib/newest';
  import type { PrintItem } from '../lib/types';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    /** Told how many run and wait. */
    oncount?: (running: number, waiting: number) => void;
  }
  let { work, live, oncount }: Props = $props();

  interface Report {
    integrated_lufs: number | null;
    true_peak_dbtp: number | null;
    overs: number;
    sha256: string;
  }
  const PLAYED = ['.wav', '.flac', '.mp3', '.ogg', '.opus', '.m4a'];
  let prints = $state.raw<PrintItem[]>([]);
  let unfolded = $state<number | null>(null);
  let differences = $state.raw<string[]>([]);
  let playing = $state<number | null>(null);
  let player: HTMLAudioElement | null = null;

  const load = newest(async () => {
    if (!work.state) return;
    prints = await api.prints(work.state.id);
    const count = (state: string): number => prints.filter((p) => p.state === state).length;
    oncount?.(count('running'), count('waiting'));
  }, 100);
  onDestroy(load.leave);

  $effect(() => {
    void work.state?.id;
    load();
    return live.onEvent((event) => {
      if (event.type === 'printed') load();
    });
  });
  $effect(() => () => player?.pause());

  function report(item: PrintItem): Report | null {
    return (item.report as Report | null | undefined) ?? null;
  }
  function what(item: PrintItem): string {
    const of = item.options as Record<string, string | number | null>;
    const name = of.part || work.model?.strips.find((s) => s.id === of.strip)?.name || 'main mix';
    const rate = of.rate ? `, ${Number(of.rate) / 1000} kHz` : '';
    const dither = of.dither === 'shaped' ? ', shaped' : of.dither === 'none' ? ', no dither' : '';
    const integer = /-(16|24)$/.test(String(of.format)) ? dither : '';
    return `${name}, ${String(of.format)}${rate}${integer}`;
  }
  function queued(item: PrintItem): string {
    if (item.place === null || item.place === undefined) return 'queued';
    return item.place === 0 ? 'queued, next' : `queued, place ${item.place + 1}`;
  }
  function left(item: PrintItem): string {
    if (item.left_s === null || item.left_s === undefined) return '';
    const all = Math.max(Math.round(item.left_s), 0);
    return `${Math.floor(all / 60)}:${String(all % 60).padStart(2, '0')} left`;
  }
  async function act(does: Promise<unknown>): Promise<void> {
    try {
      await does;
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      work.problem = error.message;
    }
    load();
  }
  async function differs(item: PrintItem): Promise<void> {
    if (unfolded === item.id) {
      unfolded = null;
      return;
    }
    differences = await api.printDifferences(item.id);
    unfolded = item.id;
  }
  function play(item: PrintItem): void {
    player?.pause();
    if (playing === item.id) {
      playing = null;
      return;
    }
    if (live.transport.playing) live.send({ type: 'stop' });
    player = new Audio(`/api/prints/${item.id}/file`);
    player.onended = () => (playing = null);
    playing = item.id;
    void player.play().catch(() => (playing = null));
  }
</script>

<table aria-label="Prints">
  <thead>
    <tr>
      <th>file</th>
      <th>what</th>
      <th>state</th>
      <th class="number">LUFS</th>
      <th class="number">dBTP</th>
      <th class="number">overs</th>
      <th>SHA-256</th>
      <td></td>
    </tr>
  </thead>
  <tbody>
    {#each prints as item (item.id)}
      {@const found = report(item)}
      <tr data-print={item.id} data-state={item.state}>
        <td class="file" title={item.file ?? ''}>{item.file ?? '–'}</td>
        <td class="what" title={what(item)}>{what(item)}</td>
        <td>
          {#if item.state === 'running'}
            printing <progress max="1" value={item.progress} aria-label="printed so far"></progress>
            {left(item) || `${figure(item.progress * 100, 0)} %`}
          {:else if item.state === 'waiting'}{queued(item)}
          {:else}{item.state}{/if}
        </td>
        <td class="number">
          {found?.integrated_lufs == null ? '' : figure(found.integrated_lufs, 1)}
        </td>
        <td class="number">
          {found?.true_peak_dbtp == null ? '' : figure(found.true_peak_dbtp, 1)}
        </td>
        <td class="number"
          >{#if found}<b class:none={!found.overs}>{found.overs}</b>{/if}</td
        >
        <td title={found?.sha256}>{found?.sha256.slice(0, 8) ?? ''}</td>
        <td class="acts">
          {#if item.state === 'done'}
            {#if PLAYED.some((e) => item.file?.endsWith(e))}
              <button onclick={() => play(item)}>{playing === item.id ? 'stop' : 'play'}</button>
            {/if}
            <a href="/api/prints/{item.id}/file" download>save</a>
            <button aria-expanded={unfolded === item.id} onclick={() => void differs(item)}
              >what differs</button
            >
          {:else if item.state === 'waiting'}
            <button onclick={() => void act(api.printSooner(item.id))}>sooner</button>
            <button onclick={() => void act(api.printLater(item.id))}>later</button>
          {/if}
          {#if item.state === 'running' || item.state === 'waiting'}
            <button onclick={() => void act(api.cancelPrint(item.id))}>cancel</button>
          {/if}
        </td>
      </tr>
      {#if item.message || unfolded === item.id}
        <tr class="words">
          <td></td>
          <td colspan="7">
            {item.message ?? ''}
            {#if unfolded === item.id}since the print before: {differences.join('; ')}{/if}
          </td>
        </tr>
      {/if}
    {:else}
      <tr><td colspan="8" class="muted">Nothing was printed yet.</td></tr>
    {/each}
  </tbody>
</table>

<style>
  table {
    width: 100%;
    border-collapse: collapse;
    font-size: var(--note);
  }
  th {
    padding: 0 var(--s2) 0 0;
    text-align: left;
    font-weight: 400;
    color: var(--slate);
    font-size: var(--small);
  }
  tbody tr {
    border-top: 1px solid var(--hair);
  }
  tbody tr.words {
    border-top: 0;
    color: var(--muted);
  }
  td {
    padding: 2px var(--s2) 2px 0;
    white-space: nowrap;
  }
  .words td {
    white-space: normal;
  }
  .file,
  .what {
    max-width: 210px;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .file {
    font-weight: 600;
  }
  .number {
    text-align: right;
  }
  .none {
    font-weight: 400;
  }
  .muted {
    color: var(--muted);
  }
  .acts {
    text-align: right;
    padding-right: 0;
  }
  .acts > * {
    color: inherit;
    text-decoration: underline dotted;
    margin-left: var(--s2);
  }
  progress {
    accent-color: var(--ink);
    width: 70px;
  }
</style>
