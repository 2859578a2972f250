<script lang="ts">
  import { untrack } from 'svelte';
  import DragNumber from '../../components/DragNumber.svelte';
  import { bandsOf, changedBand, freshBand, hzOf } from '../../lib/bands';
  import { Drawing } from '../../lib/drawing.svelte';
  import { figure, hertz, signed } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import type { Taming } from '../../lib/taming.svelte';
  import type { BandRecord, Control } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';

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

  const field = (name: string): Control => control.fields!.find((f) => f.name === name)!;
  const next = (index: number, change: Partial<BandRecord>): BandRecord[] =>
    changedBand(places, index, () => change as BandRecord);
  const hold = (index: number, name: string, value: number): void =>
    work.hold(control.name, next(index, { [name]: value }));
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

  function within(name: string, value: number): number {
    const { low, high } = field(name);
    return Math.min(Math.max(value, low ?? -Infinity), high ?? Infinity);
  }

  function press(event: KeyboardEvent, index: number): void {
    const place = places[index]!;
    const up = event.key === 'ArrowUp' ? 1 : event.key === 'ArrowDown' ? -1 : 0;
    const across = event.key === 'ArrowRight' ? 1 : event.key === 'ArrowLeft' ? -1 : 0;
    if (up && event.altKey)
      put(next(index, { depth_db: within('depth_db', Number(place.depth_db) + up / 2) }));
    else if (up) focus(index - up);
    else if (across) put(next(index, { hz: Math.round(hzOf(place) * 2 ** (across / 24)) }));
    else if (event.key === 'b') put(next(index, { on: place.on === false }));
    else if (event.key === 'h') {
      byKey = true;
      taming.hear(index);
    } else if (event.key === 'Delete') remove(index);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  /** H is held. */
  let byKey = false;
  function letGo(): void {
    byKey = false;
    taming.hear(null);
  }
  const release = (event: KeyboardEvent): void => {
    if (event.key === 'h') letGo();
  };
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
      <th class="time">share of time</th><th class="n">width oct</th><th class="n">depth dB</th>
      <th class="n">taken now</th><td></td>
    </tr>
  </thead>
  <tbody bind:this={body}>
    {#each places as place, i (i)}
      {@const share = Number(place.time_share)}
      <tr class:chosen={i === chosen} class:off={place.on === false}>
        <td
          ><button
            data-place={i}
            aria-pressed={i === chosen}
            aria-label="Place {i + 1}, {regions[i] ?? ''}, {hertz(hzOf(place))}, {figure(
              Number(place.over_db),
            )} dB over its surroundings, {Math.round(100 * share)} percent of the time"
            title="↑ ↓ place, ← → frequency, Alt+↑ ↓ depth, B on or off, hold H alone, Delete"
            onclick={() => focus(i)}
            onkeydown={(e) => press(e, i)}
            onkeyup={release}
            onblur={() => byKey && letGo()}>{i + 1}</button
          ></td
        >
        <td
          ><input
            type="checkbox"
            aria-label="Place {i + 1} on"
            checked={place.on !== false}
            onchange={(e) => put(next(i, { on: e.currentTarget.checked }))}
          /></td
        >
        <td class="region"
          >{regions[i] ?? ''}{#if fresh.includes(hzOf(place))}<b>, new</b>{/if}</td
        >
        {#each ['hz', 'over_db', 'share', 'width_oct', 'depth_db'] as name (name)}
          {#if name === 'share'}
            <td class="time"
              ><span class="bar"><i style:width="{100 * share}%"></i></span>{Math.round(
                100 * share,
              )} %</td
            >
          {:else if name === 'over_db'}
            <td class="n"><b>{signed(Number(place.over_db))}</b></td>
          {:else}
            {@const f = field(name)}
            <td class="n"
              ><DragNumber
                label="{f.label} of place {i + 1}"
                value={Number(place[name])}
                low={f.low!}
                high={f.high!}
                unit={f.unit}
                step={f.step}
                log={f.scale === 'log'}
                reset={f.default as number}
                text={figure(Number(place[name]), name === 'hz' ? 0 : name === 'width_oct' ? 2 : 1)}
                onhold={(v) => v !== null && hold(i, name, v)}
                ondrop={() => void work.drop()}
              /></td
            >
          {/if}
        {/each}
        <td class="n taken">{place.on === false ? 'off' : figure(-(taken[i] ?? 0), 1)}</td>
        <td
          ><button
            class="hear"
            aria-pressed={taming.heard === i}
            title="Hear what comes in here alone"
            onclick={() => taming.hear(taming.heard === i ? null : i)}
            >hear<span class="unseen"> place {i + 1}</span></button
          ></td
        >
      </tr>
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
    border-top: 1px solid var(--hair);
    padding: 1px 3px;
    white-space: nowrap;
  }
  thead td {
    border: 0;
  }
  td:first-child {
    padding-left: 8px;
  }
  input {
    accent-color: var(--ink);
    margin: 0 4px;
  }
  .n {
    text-align: right;
  }
  .time {
    text-align: right;
    padding-left: 10px;
  }
  .bar {
    display: inline-block;
    width: 40px;
    height: 6px;
    margin-right: 6px;
    background: var(--hair);
    text-align: left;
    vertical-align: middle;
  }
  .bar i {
    display: block;
    height: 100%;
    background: var(--slate);
  }
  .taken {
    color: var(--madder-text, var(--madder));
    font-weight: 600;
    min-width: 52px;
  }
  .chosen {
    box-shadow: inset 4px 0 var(--ink);
    background: var(--field);
  }
  .off td:not(:nth-child(2)) {
    color: var(--muted);
  }
  td button {
    min-width: 20px;
  }
  .hear,
  .add {
    border-bottom: 1px dotted currentColor;
  }
  .hear[aria-pressed='true'] {
    background: var(--ink);
    color: var(--on-ink);
  }
  .add {
    justify-self: start;
    font-size: var(--note);
    color: var(--slate);
  }
  .unseen {
    position: absolute;
    clip-path: inset(50%);
    width: 1px;
    height: 1px;
    overflow: hidden;
  }
  @media (max-width: 1100px) {
    .time,
    th:nth-child(7),
    td:nth-child(7) {
      display: none;
    }
  }
</style>
