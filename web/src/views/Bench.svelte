<script lang="ts">
  import Chain from '../bench/score/Chain.svelte';
  import LedgerView from '../bench/ledger/LedgerView.svelte';
  import Panel from '../bench/panel/Panel.svelte';
  import type { Span } from '../bench/timeline/span.svelte';
  import StripList from '../bench/strips/StripList.svelte';
  import TimeStrip from '../bench/timeline/TimeStrip.svelte';
  import type { Live } from '../lib/live.svelte';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    span: Span;
    theme: string;
  }
  let { work, live, span, theme }: Props = $props();
</script>

<main class="bench">
  <StripList {work} {live} />
  <div class="middle">
    <TimeStrip {work} {live} {span} {theme} />
    <Chain {work} {live} />
    <Panel {work} {live} />
  </div>
  <LedgerView {work} {live} {span} />
</main>

<style>
  .bench {
    display: grid;
    grid-template-columns: 172px minmax(0, 1fr) 248px;
    min-height: 0;
  }
  .middle {
    display: grid;
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
