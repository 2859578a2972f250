<script lang="ts">
  import { untrack } from 'svelte';
  import Places from '../lab/Places.svelte';
  import Signal from '../lab/Signal.svelte';
  import { find } from '../lib/chain';
  import { figure } from '../lib/figures';
  import { Lab, MEASUREMENTS } from '../lib/lab.svelte';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
  }
  let { work }: Props = $props();
  const lab = untrack(() => new Lab(work));

  const known = $derived(MEASUREMENTS.find(([name]) => name === lab.options.measurement));
  const slots = $derived.by(() => {
    const found = work.model?.settings.find((s) => s.extent.owner === lab.place);
    return Object.keys(found?.held ?? {});
  });

  // Where the hand was on Bench; another strip, or a place that is gone, is its whole chain.
  $effect(() => {
    const { strip, stageId } = work;
    untrack(() => {
      if (!strip) return;
      lab.place = find(strip.chain, stageId) ? stageId : strip.id;
      lab.against = null;
    });
  });
  $effect(() => {
    void [work.state?.revision, lab.place];
    lab.soon();
  });

  function save(text: string, name: string, type: string): void {
    const link = document.createElement('a');
    link.href = URL.createObjectURL(new Blob([text], { type }));
    link.download = name;
    link.click();
    URL.revokeObjectURL(link.href);
  }
</script>

<main class="lab">
  <aside>
    <Places
      strips={work.model?.strips ?? []}
      strip={work.strip}
      titleOf={work.titleOf}
      onstrip={(strip) => work.select(strip)}
      place={lab.place}
      onchoose={(place) => {
        lab.place = place;
        lab.against = null;
      }}
    />
    <div class="kinds" role="radiogroup" aria-label="Measurement">
      {#each MEASUREMENTS as [name, title, words] (name)}
        <button
          role="radio"
          aria-checked={name === lab.options.measurement}
          title={words}
          onclick={() => {
            lab.options = { ...lab.options, measurement: name };
            lab.soon();
          }}>{title}</button
        >
      {/each}
    </div>
    <Signal {lab} rate={work.rate} {slots} />
  </aside>
  <section aria-label="What was measured" aria-busy={lab.busy}>
    <header>
      <h2>{known?.[1]}</h2>
      <span class="words">{known?.[2]}</span>
      <span class="space"></span>
      {#if lab.answer}
        {@const { csv, svg } = lab.answer}
        <button onclick={() => save(csv, `${lab.options.measurement}.csv`, 'text/csv')}
          >save as CSV</button
        >
        <button onclick={() => save(svg, `${lab.options.measurement}.svg`, 'image/svg+xml')}
          >save as SVG</button
        >
      {/if}
    </header>
    {#if lab.error}
      <p role="alert">{lab.error}</p>
    {:else if lab.answer}
      <p class="words">{lab.answer.words}, {lab.answer.rate / 1000} kHz</p>
      <dl>
        {#each lab.answer.figures as one, i (i)}
          <div>
            <dt>{one.label}</dt>
            <dd>{one.value === null ? 'none' : `${figure(one.value)} ${one.unit}`}</dd>
          </div>
        {/each}
      </dl>
      <div class="plots" class:one={lab.answer.plots.length <= 3}>
        <!-- Drawn by the server out of numbers; the words in it are escaped there. -->
        <!-- eslint-disable-next-line svelte/no-at-html-tags -->
        {#each lab.answer.plots as plot, i (i)}<div class="plot">{@html plot}</div>{/each}
      </div>
    {:else}
      <p class="words">measuring…</p>
    {/if}
  </section>
</main>

<style>
  .lab {
    display: grid;
    grid-template-columns: 300px minmax(0, 1fr);
    min-height: 0;
  }
  aside {
    display: grid;
    align-content: start;
    gap: 10px;
    padding: var(--s3) var(--s4);
    border-right: 1px solid var(--hair);
    overflow-y: auto;
  }
  .kinds {
    display: grid;
    grid-template-columns: 1fr 1fr;
    border-top: 1px solid var(--hair);
    padding-top: var(--s2);
  }
  .kinds button {
    padding: 3px 6px;
    text-align: left;
  }
  .kinds button[aria-checked='true'] {
    background: var(--ink);
    color: var(--field);
  }
  section {
    display: grid;
    grid-template-rows: auto auto auto minmax(0, 1fr);
    align-content: start;
    gap: 6px;
    padding: var(--s3) 20px;
    min-width: 0;
    overflow-y: auto;
  }
  header {
    display: flex;
    align-items: baseline;
    gap: var(--s3);
  }
  h2 {
    font-size: var(--heading);
  }
  .words {
    margin: 0;
    color: var(--muted);
  }
  .space {
    flex: 1;
  }
  header button {
    color: var(--slate);
    border-bottom: 1px dotted currentColor;
  }
  dl {
    display: grid;
    grid-template-columns: repeat(auto-fill, minmax(210px, 1fr));
    gap: 0 var(--s5);
    margin: 0;
  }
  dl div {
    display: flex;
    justify-content: space-between;
    border-bottom: 1px solid var(--hair);
    padding: 2px 0;
  }
  dt {
    color: var(--slate);
  }
  dd {
    margin: 0;
    font-weight: 600;
    font-variant-numeric: tabular-nums;
    white-space: nowrap;
  }
  .plots {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(420px, 1fr));
    gap: 6px 20px;
    align-content: start;
  }
  .plots.one {
    grid-template-columns: minmax(0, 940px);
  }
  .plot > :global(svg) {
    display: block;
    width: 100%;
    height: auto;
  }
  .plot > :global(svg text) {
    font-family: inherit;
  }
</style>
