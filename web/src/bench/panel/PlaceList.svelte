<script lang="ts">
  import { untrack } from 'svelte';
  import { bandsOf, changedBand, freshBand, hzOf } from '../../lib/bands';
  import { Drawing } from '../../lib/drawing.svelte';
  import type { Live } from '../../lib/live.svelte';
  import type { Taming } from '../../lib/taming.svelte';
  import type { BandRecord, Control } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import PlaceRow from './PlaceRow.svelte';

  interface Props {
    work: Work;
    live: Live;
    taming: Taming;
    control: Control;
  }
  let { work, live, taming, control }: Props = $props();

  const drawing = untrack(() => new Drawing(work, () => work.stage));
  const places = $derived(bandsOf(work.stage?.params, control));
  const chosen = $derived(Math.min(work.bandIndex, places.length - 1));
  const regions = $derived(drawing.part('regions') ?? []);
  const fresh = $derived(taming.answer?.changes ? (taming.answer.new ?? []) : []);
  let taken = $state.raw<number[]>([]);
  let body: HTMLTableSectionElement | undefined = $state();

  $effect(() =>
    live.onReports((batch) => {
      for (const { report } of batch) taken = report.stages[work.stage?.id ?? '']?.moves ?? [];
    }),
  );

  const next = (index: number, change: Partial<BandRecord>): BandRecord[] =>
    changedBand(places, index, () => change as BandRecord);
  const put = (all: BandRecord[]): void => void work.set(control.name, all);

  function add(): void {
    work.bandIndex = places.length;
    put([...places, freshBand(control, { hz: 1000 })]);
  }

  function remove(index: number): void {
    work.bandIndex = Math.max(index - 1, 0);
    put(places.filter((_, i) => i !== index));
  }

  function focus(index: number): void {
    const row = Math.min(Math.max(index, 0), places.length - 1);
    work.bandIndex = row;
    body?.querySelectorAll<HTMLElement>('[data-place]')[row]?.focus();
  }

  // Another stage, another view: nothing of this one is heard alone any more.
  $effect(() => {
    void work.stage?.id;
    return () => taming.hear(null);
  });
</script>

<table aria-label="Places that ring">
  <thead>
    <tr>
      <td></td><td></td><th>region</th><th class="n">Hz</th><th class="n">over dB</th>
      <th class="time">share of time</th><th class="n width">width oct</th><th class="n"
        >depth dB</th
      >
      <th class="n">taken now</th><td></td>
    </tr>
  </thead>
  <tbody bind:this={body}>
    {#each places as place, i (i)}
      <PlaceRow
        index={i}
        {place}
        {control}
        region={regions[i] ?? ''}
        fresh={fresh.includes(hzOf(place))}
        chosen={i === chosen}
        heard={taming.heard === i}
        taken={taken[i] ?? 0}
        onhold={(name, value) => work.hold(control.name, next(i, { [name]: value }))}
        ondrop={() => void work.drop()}
        onchange={(change) => put(next(i, change))}
        onfocus={(by) => focus(i + by)}
        onhear={(heard) => taming.hear(heard ? i : null)}
        onremove={() => remove(i)}
      />
    {/each}
  </tbody>
</table>
{#if places.length < (control.most ?? 12)}
  <button class="add" onclick={add}>+ by hand</button>
{/if}

<style>
  table {
    border-collapse: collapse;
    font-size: var(--note);
    width: 100%;
  }
  th {
    font-weight: 400;
    color: var(--muted);
    text-align: left;
    white-space: nowrap;
  }
  td {
    padding: 1px 3px;
  }
  .n {
    text-align: right;
  }
  .time {
    text-align: right;
    padding-left: 10px;
  }
  .add {
    justify-self: start;
    font-size: var(--note);
    color: var(--slate);
    border-bottom: 1px dotted currentColor;
  }
  @media (max-width: 1100px) {
    .time,
    .width {
      display: none;
    }
  }
</style>
