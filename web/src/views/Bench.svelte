<script lang="ts">
  import { untrack } from 'svelte';
  import BlindTest from '../bench/compare/BlindTest.svelte';
  import LibraryPanel from '../bench/library/LibraryPanel.svelte';
  import SettingsPanel from '../bench/compare/SettingsPanel.svelte';
  import Chain from '../bench/score/Chain.svelte';
  import LedgerView from '../bench/ledger/LedgerView.svelte';
  import Panel from '../bench/panel/Panel.svelte';
  import type { Span } from '../bench/timeline/span.svelte';
  import StripList from '../bench/strips/StripList.svelte';
  import TimeStrip from '../bench/timeline/TimeStrip.svelte';
  import type { Aiming } from '../lib/aiming.svelte';
  import type { Taming } from '../lib/taming.svelte';
  import type { Blind } from '../lib/blind.svelte';
  import type { Compare } from '../lib/compare.svelte';
  import type { Library } from '../lib/library.svelte';
  import type { Live } from '../lib/live.svelte';
  import type { Reference } from '../lib/reference.svelte';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    span: Span;
    compare: Compare;
    blind: Blind;
    library: Library;
    aiming: Aiming;
    taming: Taming;
    reference: Reference;
    theme: string;
  }
  let { work, live, span, compare, blind, library, aiming, taming, reference, theme }: Props =
    $props();

  const session = $derived(work.state?.id);
  const loop = $derived(live.transport.loop);
  const measured = $derived(Object.values(work.analysed).filter((share) => share >= 1).length);
  $effect(() => {
    void [work.fresh, work.stripId, work.at, work.alone, loop?.[0], loop?.[1], measured];
    void [compare.extent, compare.against, compare.watched];
    untrack(compare.load);
  });
  $effect(() => {
    void [compare.answer, live.same.on, compare.chosen, work.alone, compare.extent];
    untrack(() => !blind.running && !library.trying && compare.level(compare.chosen));
  });
  $effect(() => {
    void [work.stripId, work.alone, loop?.[0], loop?.[1], work.state?.revision];
    untrack(() => library.forget());
  });
  // Nothing goes on being tried where nobody sees it: on another view, in another session.
  $effect(() => {
    void session;
    return () => untrack(() => library.close());
  });
  $effect(() => {
    void [library.open, library.edit, work.alone, loop?.[0], loop?.[1], measured];
    untrack(() => library.open && library.hear());
  });
  $effect(() => {
    const revision = work.state?.revision ?? 0;
    untrack(() => blind.watch(revision));
  });
</script>

<main class="bench">
  <StripList {work} {live} />
  <div class="middle">
    <TimeStrip {work} {live} {span} {theme} marking={aiming.marks} />
    <Chain {work} {live} tried={library.stands} onrecipe={(spot) => void library.show(spot)} />
    {#if compare.open}
      <SettingsPanel {work} {live} {compare} {blind} {reference} />
    {:else if library.open}
      <LibraryPanel {work} {live} {compare} {library} />
    {:else}
      <Panel {work} {live} {compare} {aiming} {taming} onkeep={() => void library.showSaving()} />
    {/if}
  </div>
  {#if blind.open}
    <BlindTest {blind} title={work.strip?.name ?? ''} trials={work.model?.trials ?? []} />
  {:else}
    <LedgerView {work} {live} {span} {compare} />
  {/if}
</main>

<style>
  .bench {
    display: grid;
    grid-template-columns: 172px minmax(0, 1fr) 248px;
    min-height: 0;
  }
  .middle {
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    grid-template-rows: minmax(120px, 1fr) auto 396px;
    min-width: 0;
    min-height: 0;
  }
  @media (max-height: 720px) {
    .middle {
      grid-template-rows: minmax(90px, 1fr) auto 340px;
    }
  }
  @media (min-height: 960px) {
    .middle {
      grid-template-rows: minmax(150px, 1fr) auto 400px;
    }
  }
  @media (max-width: 1100px) {
    .bench {
      grid-template-columns: 148px minmax(0, 1fr) 216px;
    }
  }
</style>
