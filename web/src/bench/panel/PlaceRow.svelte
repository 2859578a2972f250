<script lang="ts">
  import DragNumber from '../../components/DragNumber.svelte';
  import { hzOf } from '../../lib/bands';
  import { figure, hertz, signed } from '../../lib/figures';
  import type { BandRecord, Control } from '../../lib/types';

  interface Props {
    index: number;
    place: BandRecord;
    control: Control;
    region: string;
    /** Found by the last scan. */
    fresh: boolean;
    chosen: boolean;
    /** Heard alone. */
    heard: boolean;
    /** dB that are taken now. */
    taken: number;
    onhold: (name: string, value: number) => void;
    ondrop: () => void;
    onchange: (change: Partial<BandRecord>) => void;
    /** Choose this row, or the one so many further down. */
    onfocus: (by: number) => void;
    onhear: (heard: boolean) => void;
    onremove: () => void;
  }
  let {
    index,
    place,
    control,
    region,
    fresh,
    chosen,
    heard,
    taken,
    onhold,
    ondrop,
    onchange,
    onfocus,
    onhear,
    onremove,
  }: Props = $props();

  const share = $derived(Number(place.time_share));
  const field = (name: string): Control => control.fields!.find((f) => f.name === name)!;

  function within(name: string, value: number): number {
    const { low, high } = field(name);
    return Math.min(Math.max(value, low ?? -Infinity), high ?? Infinity);
  }

  function press(event: KeyboardEvent): void {
    const up = event.key === 'ArrowUp' ? 1 : event.key === 'ArrowDown' ? -1 : 0;
    const across = event.key === 'ArrowRight' ? 1 : event.key === 'ArrowLeft' ? -1 : 0;
    if (up && event.altKey)
      onchange({ depth_db: within('depth_db', Number(place.depth_db) + up / 2) });
    else if (up) onfocus(-up);
    else if (across) onchange({ hz: Math.round(hzOf(place) * 2 ** (across / 24)) });
    else if (event.key === 'b') onchange({ on: place.on === false });
    else if (event.key === 'h') {
      byKey = true;
      onhear(true);
    } else if (event.key === 'Delete') onremove();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  /** H is held. */
  let byKey = false;
  function letGo(): void {
    byKey = false;
    onhear(false);
  }
  const release = (event: KeyboardEvent): void => {
    if (event.key === 'h') letGo();
  };
</script>

<tr class:chosen class:off={place.on === false}>
  <td
    ><button
      data-place={index}
      aria-pressed={chosen}
      aria-label="Place {index + 1}, {region}, {hertz(hzOf(place))}, {figure(
        Number(place.over_db),
      )} dB over its surroundings, {Math.round(100 * share)} percent of the time"
      title="↑ ↓ place, ← → frequency, Alt+↑ ↓ depth, B on or off, hold H alone, Delete"
      onclick={() => onfocus(0)}
      onkeydown={press}
      onkeyup={release}
      onblur={() => byKey && letGo()}>{index + 1}</button
    ></td
  >
  <td
    ><input
      type="checkbox"
      aria-label="Place {index + 1} on"
      checked={place.on !== false}
      onchange={(e) => onchange({ on: e.currentTarget.checked })}
    /></td
  >
  <td class="region"
    >{region}{#if fresh}<b>, new</b>{/if}</td
  >
  {#each ['hz', 'over_db', 'share', 'width_oct', 'depth_db'] as name (name)}
    {#if name === 'share'}
      <td class="time"
        ><span class="bar"><i style:width="{100 * share}%"></i></span>{Math.round(100 * share)} %</td
      >
    {:else if name === 'over_db'}
      <td class="n"><b>{signed(Number(place.over_db))}</b></td>
    {:else}
      {@const f = field(name)}
      <td class="n" class:width={name === 'width_oct'}
        ><DragNumber
          label="{f.label} of place {index + 1}"
          value={Number(place[name])}
          low={f.low!}
          high={f.high!}
          unit={f.unit}
          step={f.step}
          log={f.scale === 'log'}
          reset={f.default as number}
          text={figure(Number(place[name]), name === 'hz' ? 0 : name === 'width_oct' ? 2 : 1)}
          onhold={(v) => v !== null && onhold(name, v)}
          {ondrop}
        /></td
      >
    {/if}
  {/each}
  <td class="n taken">{place.on === false ? 'off' : figure(-taken, 1)}</td>
  <td
    ><button
      class="hear"
      aria-pressed={heard}
      title="Hear what comes in here alone"
      onclick={() => onhear(!heard)}>hear<span class="unseen"> place {index + 1}</span></button
    ></td
  >
</tr>

<style>
  td {
    border-top: 1px solid var(--hair);
    padding: 1px 3px;
    white-space: nowrap;
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
  .hear {
    border-bottom: 1px dotted currentColor;
  }
  .hear[aria-pressed='true'] {
    background: var(--ink);
    color: var(--on-ink);
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
    .width {
      display: none;
    }
  }
</style>
