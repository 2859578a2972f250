<script lang="ts">
  import Choice from '../../components/Choice.svelte';
  import type { Blind } from '../../lib/blind.svelte';
  import { KINDS, SLOTS, type Compare, type ExtentKind } from '../../lib/compare.svelte';
  import type { Live } from '../../lib/live.svelte';
  import type { Reference } from '../../lib/reference.svelte';
  import type { Slot } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import ReferenceTable from './ReferenceTable.svelte';
  import SettingActs from './SettingActs.svelte';
  import SettingsTable from './SettingsTable.svelte';

  interface Props {
    work: Work;
    live: Live;
    compare: Compare;
    blind: Blind;
    reference: Reference;
  }
  let { work, live, compare, blind, reference }: Props = $props();

  const empty = $derived(SLOTS.filter((s) => !compare.letters.includes(s)));

  const titles: Record<ExtentKind, string> = {
    stage: 'The selected stage, or split with all that is on it',
    stretch: 'Stages taken together with Shift on the stave',
    chain: 'The whole chain',
    strip: 'The chain with trim, fader, pan and sends',
  };
</script>

<section class="panel" aria-label="Settings of {work.strip?.name}">
  <header>
    <h2>Settings</h2>
    <span class="where">of {work.strip?.name}:</span>
    <Choice
      label="Settings of"
      hidden
      options={[...KINDS]}
      value={compare.kind}
      disabled={compare.missing}
      {titles}
      onchoose={(kind) => (compare.wanted = kind as ExtentKind)}
    />
    <span class="where">in words against</span>
    <Choice
      label="In words against"
      hidden
      options={SLOTS}
      value={compare.against}
      disabled={empty}
      onchoose={(slot) => (compare.against = slot as Slot)}
    />
    <span class="space"></span>
    <button onclick={() => blind.prepare()} title="T">blind test</button>
    <button onclick={() => (compare.open = false)} title="Esc">back to the stage</button>
  </header>
  <div class="body">
    <SettingsTable {live} {compare} {blind} />
    <SettingActs {compare} same={live.same.on} />
    <ReferenceTable {work} {live} {reference} />
  </div>
</section>

<style>
  .panel {
    display: flex;
    flex-direction: column;
    border-top: 1px solid var(--hair);
    min-height: 0;
  }
  header {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 2px 10px;
    padding: 6px 14px;
    white-space: nowrap;
  }
  h2 {
    font-size: var(--heading);
  }
  header :global(.choice) {
    min-width: 112px;
  }
  .where {
    color: var(--muted);
  }
  .space {
    flex: 1;
  }
  header > button {
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  .body {
    padding: 0 14px 10px;
    overflow-y: auto;
    min-height: 0;
  }
</style>
