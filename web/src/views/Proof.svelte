<script lang="ts">
  import AsPlayed from '../proof/AsPlayed.svelte';
  import CeilingChart from '../proof/CeilingChart.svelte';
  import Findings from '../proof/Findings.svelte';
  import Listen from '../proof/Listen.svelte';
  import PrintQueue from '../proof/PrintQueue.svelte';
  import SongStrip from '../proof/SongStrip.svelte';
  import TargetForm from '../proof/TargetForm.svelte';
  import TargetTable from '../proof/TargetTable.svelte';
  import Verdict from '../proof/Verdict.svelte';
  import Ways from '../proof/Ways.svelte';
  import type { Live } from '../lib/live.svelte';
  import type { Proving } from '../lib/proving.svelte';
  import type { Reference } from '../lib/reference.svelte';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    proving: Proving;
    reference: Reference;
    onprint: () => void;
  }
  let { work, live, proving, reference, onprint }: Props = $props();

  const NEW = 'make one…';
  let making = $state(false);
  const main = $derived(work.model?.strips.find((s) => s.kind === 'main') ?? null);
  const targets = $derived([...(proving.delivery?.ours ?? []), ...(proving.delivery?.own ?? [])]);
  const own = $derived((proving.delivery?.own ?? []).some((t) => t.name === proving.target?.name));

  $effect(() => {
    void work.state?.revision;
    proving.load();
  });
  // A loop or a section that is gone, or a strip.
  $effect(() => {
    if (!proving.passages.includes(proving.passage)) proving.passage = 'the song';
    if (!work.model?.strips.some((s) => s.id === proving.strip)) proving.strip = null;
  });
  // What is heard follows play, the row and the way it is looked at.
  $effect(() => {
    void [live.transport.playing, live.transport.epoch, proving.gains, proving.row, proving.heard];
    if (reference.heard) proving.rest();
    else proving.listen();
  });
  $effect(() => () => proving.leave());

  function choose(name: string): void {
    if (name === NEW) making = true;
    else proving.target = targets.find((t) => t.name === name) ?? proving.target;
  }
</script>

<main class="proof">
  <div class="left">
    <header>
      <label
        >Proof of
        <select
          aria-label="Proof of"
          value={proving.file ?? proving.strip ?? ''}
          onchange={(e) => {
            proving.file = null;
            const { value } = e.currentTarget;
            proving.strip = value === '' || value === main?.id ? null : value;
          }}
        >
          {#if proving.file}<option value={proving.file}>{proving.file}</option>{/if}
          <option value="">Main mix</option>
          {#each work.model?.strips.filter((s) => s.kind !== 'main') ?? [] as strip (strip.id)}
            <option value={strip.id}>{strip.name}</option>
          {/each}
        </select>
      </label>
      <label
        >over
        <select aria-label="Passage" disabled={proving.file !== null} bind:value={proving.passage}>
          {#each proving.passages as passage (passage)}<option>{passage}</option>{/each}
        </select>
      </label>
      <label
        >target
        <select
          aria-label="Target"
          value={proving.target?.name ?? ''}
          onchange={(e) => choose(e.currentTarget.value)}
        >
          {#each targets as target (target.name)}<option>{target.name}</option>{/each}
          <option>{NEW}</option>
        </select>
      </label>
      {#if own && proving.target}
        {@const target = proving.target}
        <button class="act" onclick={() => void proving.removeTarget(target)}
          >delete this target</button
        >
      {/if}
      <span class="space"></span>
      <span class="muted">a file dropped here is proved instead</span>
    </header>
    <div class="top">
      <div class="verdict">
        <Verdict {proving} ready={work.frames > 0} />
        <CeilingChart {proving} />
      </div>
      <TargetTable {proving} />
    </div>
    <div class="table">
      <div class="heading">
        <Ways {proving} rate={work.rate} bpm={work.model?.bpm ?? null}>
          {#snippet song()}<SongStrip {proving} frame={live.frame} rate={work.rate} />{/snippet}
        </Ways>
      </div>
    </div>
    <PrintQueue {work} {live} {onprint} />
  </div>
  <aside aria-label="Played, listened to">
    <AsPlayed {proving} />
    <Findings {proving} />
    <div class="space"></div>
    <Listen {proving} />
  </aside>
</main>
{#if making}
  <TargetForm
    start={proving.target}
    onkeep={(t) => proving.keepTarget(t)}
    onclose={() => (making = false)}
  />
{/if}

<style>
  .proof {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 248px;
    min-height: 0;
  }
  .left {
    display: grid;
    grid-template-rows: auto auto auto minmax(0, 1fr);
    min-height: 0;
    min-width: 0;
    overflow-y: auto;
  }
  header {
    display: flex;
    align-items: center;
    gap: var(--s2) var(--s3);
    padding: 6px var(--s3) 2px;
    color: var(--slate);
    white-space: nowrap;
    min-width: 0;
  }
  header select {
    color: var(--ink);
    background: var(--field);
    border-bottom: 1px solid var(--edge);
    padding: 1px var(--s1);
    max-width: 170px;
  }
  .muted {
    color: var(--muted);
    font-size: var(--note);
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .act {
    text-decoration: underline dotted;
    font-size: var(--note);
  }
  .space {
    flex: 1;
  }
  .top {
    display: grid;
    grid-template-columns: 520px minmax(0, 1fr);
    gap: var(--s3);
    padding: 0 var(--s3);
  }
  .verdict {
    display: grid;
    align-content: start;
    gap: var(--s1);
    min-width: 0;
  }
  aside {
    display: flex;
    flex-direction: column;
    gap: var(--s2);
    padding: var(--s2) var(--s3);
    border-left: 1px solid var(--hair);
    overflow-y: auto;
    min-height: 0;
  }
  @media (max-width: 1150px) {
    .proof {
      grid-template-columns: minmax(0, 1fr) 208px;
    }
    .top {
      grid-template-columns: 430px minmax(0, 1fr);
    }
  }
</style>
