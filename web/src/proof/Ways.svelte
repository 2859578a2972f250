<script lang="ts">
  import type { Snippet } from 'svelte';
  import WayMarks from './WayMarks.svelte';
  import WaysFoot from './WaysFoot.svelte';
  import { barBeat, clock, figure, signed } from '../lib/figures';
  import { MIX, type Proving } from '../lib/proving.svelte';
  import type { WayResult } from '../lib/types';

  interface Props {
    proving: Proving;
    rate: number;
    bpm: number | null;
    song: Snippet;
  }
  let { proving, rate, bpm, song }: Props = $props();

  const found_db = $derived(proving.ceiling?.found_db ?? null);
  const verified = $derived(
    Object.fromEntries(((proving.ceiling?.verified ?? []) as WayResult[]).map((w) => [w.name, w])),
  );

  function where(frame: number): string {
    return bpm && proving.file === null ? barBeat(frame, rate, bpm) : clock(frame, rate);
  }
  function top(found: WayResult | null): { frame: number; db: number } | null {
    const all = proving.overFrames(found);
    return all.reduce<(typeof all)[number] | null>((a, b) => (a && a.db >= b.db ? a : b), null);
  }
  function said(row: (typeof proving.rows)[number]): string {
    const { found } = row;
    if (!found) return row.words;
    if (found.error) return `${row.words}: ${found.error}`;
    const over = found.overs.length === 1 ? '1 over' : `${found.overs.length} overs`;
    return `${row.words}, true peak ${figure(found.true_peak_dbtp ?? 0, 1)}, ${over}`;
  }
  function turn(name: string): void {
    proving.setWays(
      proving.ways.map((w, i) => (proving.rows[i + 1]?.name === name ? { ...w, on: !w.on } : w)),
    );
  }
  function remove(name: string): void {
    proving.setWays(proving.ways.filter((_, i) => proving.rows[i + 1]?.name !== name));
    if (proving.row === name) proving.look(MIX);
  }
  function key(event: KeyboardEvent, at: number): void {
    const { rows } = proving;
    const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    const row = rows[at];
    if (by) {
      const next = rows[Math.min(Math.max(at + by, 0), rows.length - 1)];
      if (next) {
        proving.look(next.name);
        document.querySelector<HTMLElement>(`[data-way="${next.name}"]`)?.focus();
      }
    } else if (event.key === 'Delete' && row && row.name !== MIX) remove(row.name);
    else if (event.key === 'Enter' && row && row.name !== MIX) turn(row.name);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
</script>

<div class="ways" role="table" aria-label="Ways out">
  <div class="row head" role="row">
    <div class="cells">
      <b role="columnheader">Ways out</b>
      <span role="columnheader">peak<br />dBFS</span>
      <span role="columnheader">true peak<br />dBTP</span>
      <span role="columnheader">overs</span>
      <span role="columnheader">loudest over<br />dB, {bpm ? 'bar' : 'time'}</span>
      <span role="columnheader">loudness<br />LU</span>
      <span role="columnheader" class="then"
        >{#if found_db !== null}<b>at {figure(found_db, 1)}</b>{:else}at ceiling{/if}<br />dBTP,
        overs</span
      >
    </div>
    <div class="bars song" role="columnheader">{@render song()}</div>
  </div>
  {#each proving.rows as row, at (row.name)}
    {@const found = row.found?.error ? null : row.found}
    {@const most = top(found)}
    {@const then = verified[row.name]}
    <div class="row" role="row">
      <div class="cells" class:chosen={proving.row === row.name} class:off={!row.on}>
        <div role="cell" class="what">
          {#if row.name !== MIX}
            <button
              class="box"
              role="switch"
              aria-checked={row.on}
              aria-label="Go {row.words}"
              onclick={() => turn(row.name)}><span class:on={row.on}></span></button
            >
          {:else}<span class="box none"></span>{/if}
          <button
            class="name"
            data-way={row.name}
            aria-pressed={proving.row === row.name}
            aria-label={said(row)}
            tabindex={proving.row === row.name ? 0 : -1}
            onclick={() => proving.look(row.name)}
            onkeydown={(e) => key(e, at)}>{row.words}</button
          >
        </div>
        <span role="cell" class:over={(found?.sample_peak_dbfs ?? -1) > 0}
          >{found?.sample_peak_dbfs == null ? '–' : signed(found.sample_peak_dbfs, 1)}</span
        >
        <span role="cell" class:over={(found?.overs.length ?? 0) > 0}
          >{found?.true_peak_dbtp == null ? '–' : signed(found.true_peak_dbtp, 1)}</span
        >
        <span role="cell" class:over={(found?.overs.length ?? 0) > 0}
          >{found ? found.overs.length : '–'}</span
        >
        <span role="cell">{most ? `${signed(most.db, 1)} at ${where(most.frame)}` : ''}</span>
        <span role="cell">{found?.loudness_lu == null ? '' : signed(found.loudness_lu, 1)}</span>
        <span role="cell" class="then" class:over={(then?.overs.length ?? 0) > 0}
          >{then?.true_peak_dbtp == null
            ? ''
            : `${signed(then.true_peak_dbtp, 1)}, ${then.overs.length}`}</span
        >
      </div>
      <div class="bars" role="cell">
        <WayMarks {proving} {row} {rate} {where} />
        {#if row.name !== MIX && !proving.running}
          <button class="remove" aria-label="Take {row.words} away" onclick={() => remove(row.name)}
            >×</button
          >
        {/if}
      </div>
    </div>
  {/each}
</div>
<WaysFoot {proving} />

<style>
  .ways {
    padding: 0 0 0 0;
    position: relative;
  }
  .row {
    display: grid;
    grid-template-columns: 532px minmax(0, 1fr);
    border-bottom: 1px solid var(--hair);
  }
  .cells {
    display: grid;
    grid-template-columns: 176px 42px 52px 38px 90px 54px 62px;
    align-items: center;
    height: 25px;
    padding-left: var(--s3);
    text-align: right;
    white-space: nowrap;
  }
  .head .cells {
    height: auto;
    align-items: end;
    color: var(--slate);
    font-size: var(--small);
    line-height: 1.2;
    padding-bottom: 2px;
  }
  .head .cells > b {
    font-size: var(--text);
    color: var(--ink);
    text-align: left;
  }
  .what {
    display: flex;
    align-items: center;
    gap: var(--s2);
    min-width: 0;
    text-align: left;
  }
  .name {
    flex: 1;
    min-width: 0;
    overflow: hidden;
    text-overflow: ellipsis;
    line-height: 23px;
  }
  .box {
    flex: none;
    width: 13px;
    height: 13px;
    border: 1px solid currentColor;
    padding: 2px;
  }
  .box.none {
    border: 0;
  }
  .box span {
    display: block;
    width: 100%;
    height: 100%;
  }
  .box .on {
    background: currentColor;
  }
  .chosen {
    background: var(--ink);
    color: var(--on-ink);
  }
  .off:not(.chosen) {
    color: var(--muted);
  }
  .over {
    font-weight: 700;
  }
  .bars {
    position: relative;
    border-left: 1px solid var(--hair);
    margin: 0 18px 0 var(--s2);
    height: 25px;
  }
  .song {
    height: auto;
  }
  .remove {
    position: absolute;
    right: -16px;
    top: 2px;
    width: 14px;
    text-align: center;
    color: var(--muted);
  }
  @media (max-width: 1150px) {
    .row {
      grid-template-columns: 440px minmax(0, 1fr);
    }
    .cells {
      grid-template-columns: 172px 0 56px 40px 92px 0 66px;
    }
    .cells > :nth-child(2),
    .cells > :nth-child(6) {
      visibility: hidden;
      overflow: hidden;
    }
  }
</style>
