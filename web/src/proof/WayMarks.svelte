<script lang="ts">
  import { figure, signed } from '../lib/figures';
  import type { Proving } from '../lib/proving.svelte';

  interface Props {
    proving: Proving;
    row: Proving['rows'][number];
    rate: number;
    where: (frame: number) => string;
  }
  let { proving, row, rate, where }: Props = $props();

  /** Pixels a decibel, as far as no over passes 1.4 dB. */
  const SCALE = 19 / 1.4;
  const found = $derived(row.found?.error ? null : row.found);
  const begin = $derived(proving.proof?.begin ?? 0);
  const length = $derived(Math.max((proving.proof?.end ?? 1) - begin, 1));
  const loudest = $derived(
    Math.max(1, ...proving.rows.flatMap((r) => proving.overFrames(r.found).map((o) => o.db))),
  );
  const share = $derived(proving.state.shares?.[row.name.replaceAll(':', '-')] ?? null);

  function height(db: number): number {
    return Math.min(Math.max((db * SCALE * 1.4) / Math.max(loudest, 1.4), 3), 21);
  }
</script>

{#if row.found?.error}
  <span class="say">{row.found.error}</span>
{:else if share !== null && proving.running}
  <span class="say">{figure(100 * share, 0)} %</span>
{:else if found}
  {#each proving.overFrames(found) as over (over.frame)}
    <button
      class="mark"
      tabindex={proving.row === row.name ? 0 : -1}
      style:left="{(100 * (over.frame - begin)) / length}%"
      style:height="{height(over.db)}px"
      aria-label="over, {signed(over.db, 1)} dB, {where(over.frame)}, play from here"
      title="{signed(over.db, 1)} dB at {where(over.frame)}"
      onclick={() => {
        proving.look(row.name);
        proving.from(over.frame - rate);
      }}
    ></button>
  {/each}
  {#if found.overs.length === 0}<span class="say end">none</span>{/if}
{:else if !row.on}
  <span class="say">not chosen</span>
{/if}

<style>
  .mark {
    position: absolute;
    bottom: 2px;
    width: 5px;
    margin-left: -2px;
    border-left: 2px solid var(--ink);
  }
  .say {
    position: absolute;
    left: var(--s2);
    line-height: 24px;
    color: var(--muted);
    font-size: var(--note);
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
    max-width: 100%;
  }
  .say.end {
    left: auto;
    right: var(--s1);
  }
</style>
