<script lang="ts">
  import { SLOTS, type Compare } from '../../lib/compare.svelte';
  import { figure } from '../../lib/figures';
  import type { CompareRow } from '../../lib/types';

  interface Props {
    compare: Compare;
    /** Whether all play at the same loudness. */
    same: boolean;
  }
  let { compare, same }: Props = $props();

  const known = $derived(
    compare.letters.map((s) => compare.row(s)).filter((r): r is CompareRow => r !== null),
  );
  /** What everything plays at when it is equally loud. */
  const common = $derived.by(() => {
    const rows = [compare.row('in'), ...known];
    const levels = rows.map((r) => {
      const lufs = r?.figures?.integrated_lufs ?? null;
      return lufs === null || r?.plays_db == null ? null : lufs + r.plays_db;
    });
    return levels.find((level) => level !== null) ?? null;
  });
  const others = $derived(SLOTS.filter((s) => s !== compare.chosen && compare.letters.includes(s)));
</script>

<p class="note">
  <b>Same loudness</b>
  {#if !same}
    is off (G): each plays as loud as it is.
  {:else if common === null}
    waits until all are measured.
  {:else}
    on: all play at {figure(common, 1)} LUFS, {(compare.answer?.lowered_db ?? 0) < -0.05
      ? `${figure(-(compare.answer?.lowered_db ?? 0), 1)} dB below the quietest of them, lest a true peak pass −1 dBTP`
      : 'the quietest of them'}; nothing is turned up.
  {/if}
</p>
{#if compare.letters.length > 1}
  <div class="acts">
    {#each others as slot (slot)}
      <button onclick={() => compare.copy(compare.chosen, slot)}
        >copy {compare.chosen} over {slot}</button
      >
    {/each}
    <span class="space"></span>
    {#each others as slot (slot)}
      <button onclick={() => compare.clear(slot)}>clear {slot}</button>
    {/each}
  </div>
{/if}

<style>
  .note {
    margin: var(--s3) 0 var(--s2);
    color: var(--muted);
    font-weight: 400;
    font-size: var(--note);
  }
  .acts {
    display: flex;
    gap: var(--s4);
    font-size: var(--note);
  }
  .acts button {
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  .space {
    flex: 1;
  }
</style>
