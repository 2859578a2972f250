<script lang="ts">
  import { api } from '../lib/api';
  import { figure } from '../lib/figures';
  import type { Live } from '../lib/live.svelte';
  import { newest } from '../lib/newest';
  import type { PrintItem } from '../lib/types';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    onprint: () => void;
  }
  let { work, live, onprint }: Props = $props();

  let prints = $state.raw<PrintItem[]>([]);
  const running = $derived(prints.filter((p) => p.state === 'running').length);
  const waiting = $derived(prints.filter((p) => p.state === 'waiting').length);
  const load = newest(async () => {
    if (work.state) prints = await api.prints(work.state.id);
  });

  $effect(() => {
    void work.state?.id;
    load();
    return live.onEvent((event) => {
      if (event.type === 'printed') load();
    });
  });

  function what(item: PrintItem): string {
    const { strip, format } = item.options as { strip: string | null; format: string };
    const name = strip ? work.model?.strips.find((s) => s.id === strip)?.name : 'main mix';
    return `${name ?? strip}, ${format}`;
  }
</script>

<section aria-label="Prints">
  <header>
    <h2>Prints</h2>
    <span>
      {#if running || waiting}{running} running, {waiting} waiting{/if}
    </span>
    <span class="space"></span>
    <button class="frame" onclick={onprint}>Print…</button>
  </header>
  <table>
    <thead>
      <tr><th>file</th><th>what</th><th>state</th><th></th></tr>
    </thead>
    <tbody>
      {#each prints as item (item.id)}
        <tr data-print={item.id} data-state={item.state}>
          <td class="file">{item.file ?? '–'}</td>
          <td>{what(item)}</td>
          <td>
            {#if item.state === 'running'}
              printing <progress max="1" value={item.progress}></progress>
              {figure(100 * item.progress, 0)} %
            {:else}{item.state}{/if}
            {#if item.message}<span class="muted">{item.message}</span>{/if}
          </td>
          <td class="acts">
            {#if item.state === 'done'}<a href="/api/prints/{item.id}/file" download>save</a>{/if}
            {#if item.state === 'running' || item.state === 'waiting'}
              <button onclick={() => void api.cancelPrint(item.id).then(load)}>stop</button>
            {/if}
          </td>
        </tr>
      {:else}
        <tr><td colspan="4" class="muted">Nothing was printed yet.</td></tr>
      {/each}
    </tbody>
  </table>
</section>

<style>
  section {
    border-top: 1px solid var(--ink);
    padding: var(--s1) var(--s3);
    overflow-y: auto;
    min-height: 90px;
  }
  header {
    display: flex;
    align-items: baseline;
    gap: var(--s3);
    color: var(--slate);
  }
  h2 {
    color: var(--ink);
    font-size: var(--heading);
  }
  .frame {
    border: 1px solid var(--ink);
    padding: 1px var(--s3);
    color: var(--ink);
  }
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th {
    text-align: left;
    font-weight: 400;
    color: var(--slate);
    font-size: var(--small);
  }
  tbody tr {
    border-top: 1px solid var(--hair);
  }
  td {
    padding: 2px var(--s3) 2px 0;
    white-space: nowrap;
  }
  .file {
    font-weight: 600;
    max-width: 300px;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .muted {
    color: var(--muted);
  }
  .acts {
    text-align: right;
  }
  .acts a,
  .acts button {
    color: inherit;
    text-decoration: underline dotted;
  }
  progress {
    accent-color: var(--ink);
    width: 90px;
  }
  .space {
    flex: 1;
  }
</style>
