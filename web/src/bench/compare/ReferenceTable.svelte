<script lang="ts">
  import { untrack } from 'svelte';
  import { figure, signed } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import type { Reference } from '../../lib/reference.svelte';
  import type { Figures } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    reference: Reference;
  }
  let { work, live, reference }: Props = $props();

  let file: HTMLInputElement | undefined = $state();
  const own = $derived(reference.figures[reference.one?.id ?? ''] ?? null);
  type Column = [string, (f: Figures) => number | null];
  /** Balance without the loudness, so that only the tone is compared. */
  const range =
    (i: number) =>
    (f: Figures): number | null => {
      const [power, loudness] = [f.ranges_db[i] ?? null, f.integrated_lufs];
      return power === null || loudness === null ? null : power - loudness;
    };
  const columns: Column[] = [
    ['loudness LUFS', (f) => f.integrated_lufs],
    ['true peak dBTP', (f) => f.true_peak_dbtp],
    ['crest dB', (f) => f.crest_db],
    ['PLR dB', (f) => f.peak_to_loudness_db],
    ['quiet to loud LU', (f) => f.loudness_range_lu],
    ['sides to middle', (f) => f.sides_to_middle_db],
    ['lows', range(0)],
    ['150', range(1)],
    ['800', range(2)],
    ['5k', range(3)],
  ];

  $effect(() => {
    void [reference.one?.id, live.transport.loop, work.analysed.main];
    reference.load();
  });

  $effect(() => {
    reference.open = true;
    return () => {
      reference.open = false;
      reference.level();
    };
  });
  $effect(() => {
    void [reference.gains, live.same.on];
    untrack(() => reference.level());
  });

  const said = (value: number | null | undefined): string =>
    value == null ? '–' : figure(value, 1);

  function difference(of: Column[1]): string {
    const [a, b] = [own && of(own), reference.mix && of(reference.mix)];
    return a == null || b == null ? '–' : signed(b - a);
  }

  async function read(): Promise<void> {
    const chosen = file?.files?.[0];
    if (chosen) await reference.bringIn(chosen);
    if (file) file.value = '';
  }
</script>

<div class="reference" role="group" aria-label="Reference">
  <p>
    <b>Reference</b>
    {#if reference.all.length > 1}
      <select
        aria-label="Which reference"
        value={reference.one?.id}
        onchange={(e) => (reference.chosen = e.currentTarget.value)}
      >
        {#each reference.all as one (one.id)}<option value={one.id}>{one.name}</option>{/each}
      </select>
    {:else}{reference.one?.name ?? 'none yet: another recording, only to be compared with'}{/if}
    {#if reference.one}
      <button
        class="hold"
        aria-pressed={reference.heard}
        title="Heard as long as R, or this, is held"
        onpointerdown={() => void reference.hold(true)}
        onpointerup={() => void reference.hold(false)}
        onpointerleave={() => void reference.hold(false)}>hold to hear <kbd>R</kbd></button
      >
      {#if live.same.on && reference.gains}
        <span class="muted">plays {signed(reference.gains.reference)} dB</span>
      {/if}
    {/if}
    <span class="space"></span>
    {#if reference.coming !== null}
      <span role="status">{figure(100 * reference.coming, 0)} %</span>
    {:else}
      <button class="link" onclick={() => file?.click()}>bring in a recording</button>
    {/if}
    {#if reference.one}
      {@const one = reference.one}
      <button
        class="link"
        onclick={() => void work.edit({ type: 'remove_reference', reference: one.id })}
        >take it away</button
      >
    {/if}
    <input
      bind:this={file}
      type="file"
      accept="audio/*,.wav,.flac,.aiff,.aif,.mp3,.ogg,.opus,.m4a"
      hidden
      aria-label="Recording to compare with"
      onchange={() => void read()}
    />
  </p>
  {#if reference.one}
    <table>
      <thead>
        <tr
          ><td></td>{#each columns as [name] (name)}<th>{name}</th>{/each}</tr
        >
      </thead>
      <tbody>
        <tr class:heard={!reference.heard}
          ><th>the mix</th>{#each columns as [name, of] (name)}<td
              >{said(reference.mix && of(reference.mix))}</td
            >{/each}</tr
        >
        <tr class:heard={reference.heard}
          ><th>reference</th>{#each columns as [name, of] (name)}<td>{said(own && of(own))}</td
            >{/each}</tr
        >
        <tr
          ><th>the mix has</th>{#each columns as [name, of] (name)}<td><b>{difference(of)}</b></td
            >{/each}</tr
        >
      </tbody>
    </table>
  {/if}
</div>

<style>
  .reference {
    margin-top: var(--s3);
    padding-top: var(--s2);
    border-top: 1px solid var(--ink);
    font-size: var(--note);
  }
  p {
    display: flex;
    flex-wrap: wrap;
    align-items: baseline;
    gap: 0 var(--s3);
    margin: 0 0 var(--s1);
  }
  .space {
    flex: 1;
  }
  .muted,
  thead th {
    color: var(--muted);
    font-weight: 400;
  }
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th,
  td {
    text-align: right;
    padding: 2px 0 2px var(--s2);
    border-bottom: 1px solid var(--hair);
  }
  thead th {
    vertical-align: bottom;
    line-height: 1.2;
  }
  tbody th {
    text-align: left;
    padding-left: 0;
    font-weight: 400;
    white-space: nowrap;
  }
  .heard {
    background: var(--ochre-soft);
  }
  .hold {
    border: 1px solid var(--ink);
    padding: 0 var(--s2);
  }
  .hold[aria-pressed='true'] {
    background: var(--ink);
    color: var(--on-ink);
  }
  kbd {
    font: inherit;
    font-size: var(--mark);
  }
  .link {
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  select {
    background: var(--field);
    border: 1px solid var(--hair);
    color: inherit;
  }
</style>
