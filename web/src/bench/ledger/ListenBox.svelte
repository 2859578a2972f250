<script lang="ts">
  import Checkbox from '../../components/Checkbox.svelte';
  import Choice from '../../components/Choice.svelte';
  import { SLOTS, type Compare } from '../../lib/compare.svelte';
  import type { Live, Side } from '../../lib/live.svelte';
  import type { Slot } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import Monitoring from './Monitoring.svelte';

  /** What is listened to: which setting, which side of it, where, how loud. */
  interface Props {
    work: Work;
    live: Live;
    compare: Compare;
  }
  let { work, live, compare }: Props = $props();
</script>

<div class="line">
  <span class="label"
    >Settings of the {compare.kind === 'stage' && work.split ? 'split' : compare.kind}</span
  >
  <button
    class="small"
    aria-pressed={compare.open}
    title="V: all that can be heard, side by side"
    onclick={() => (compare.open = !compare.open)}>side by side</button
  >
</div>
<Choice
  label="Settings"
  hidden
  options={SLOTS}
  value={compare.chosen}
  titles={Object.fromEntries(
    SLOTS.map((s, i) => [s, `Shift+${i + 1}${compare.name(s) ? `: ${compare.name(s)}` : ''}`]),
  )}
  onchoose={(slot) => compare.choose(slot as Slot)}
/>
{#each compare.letters as slot (slot)}
  {@const words = compare.row(slot)?.words ?? []}
  {#if words.length}
    <p class="note" title={words.join('; ')}>{slot}: {words.slice(0, 3).join('; ')}</p>
  {/if}
{/each}
<Choice
  label="Listen to"
  options={['in', 'out', 'removed']}
  value={live.held ?? live.side}
  titles={{ in: 'Hold X', out: 'What goes on', removed: 'Hold C' }}
  onchoose={(side) => live.hear(side as Side)}
/>
<div class="line">
  <Checkbox
    on={!work.alone}
    label="in the mix"
    title="Compare inside the whole mix, or this strip alone"
    onswitch={(on) => work.setAlone(!on)}
  />
  <Checkbox
    on={live.same.on}
    label="same loudness"
    title="G: the louder side is turned down to the other"
    onswitch={(on) => (live.same.on = on)}
  />
  {#if compare.matched}<span class="note" data-matched>{compare.matched}</span>{/if}
</div>
<Monitoring monitor={live.monitor} />

<style>
  .small {
    text-decoration: underline;
  }
  .label {
    color: var(--slate);
  }
  [data-matched] {
    margin-left: auto;
  }
  .line {
    display: flex;
    flex-wrap: wrap;
    justify-content: space-between;
  }
  .note {
    color: var(--muted);
  }
</style>
