<script lang="ts">
  import PrintList from './PrintList.svelte';
  import type { Live } from '../lib/live.svelte';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    onprint: () => void;
  }
  let { work, live, onprint }: Props = $props();

  let count = $state('');

  function counted(running: number, waiting: number): void {
    count = running || waiting ? `${running} running, ${waiting} queued` : '';
  }
</script>

<section aria-label="Prints">
  <header>
    <h2>Prints</h2>
    <span role="status">{count}</span>
    <span class="space"></span>
    <button class="frame" onclick={onprint}>Print…</button>
  </header>
  <PrintList {work} {live} oncount={counted} />
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
  .space {
    flex: 1;
  }
</style>
