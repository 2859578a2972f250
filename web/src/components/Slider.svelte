<script lang="ts">
  import { marked, noteTyped, readTyped, shown } from '../lib/figures';
  import AimButton from './AimButton.svelte';
  import LaneButton from './LaneButton.svelte';
  import NumberInput from './NumberInput.svelte';
  import { limits, place, valueAt } from '../lib/scale';
  import type { Control, ParamValue, Slot } from '../lib/types';
  import { drag, type Gesture } from '../lib/drag';

  interface Props {
    control: Control;
    value: ParamValue;
    others?: Partial<Record<Slot, ParamValue>>;
    /** Whether it moves by itself, and what opens its automation. */
    moves?: boolean;
    onlane?: () => void;
    /** Has the value found that gives what is wanted. */
    onaim?: () => void;
    /** Note values that can be typed as well, and what takes one. */
    notes?: readonly string[];
    onnote?: (note: string) => void;
    onhold: (value: number) => void;
    ondrop: () => void;
  }
  let {
    control,
    value,
    others = {},
    moves = false,
    onlane,
    onaim,
    notes = [],
    onnote,
    onhold,
    ondrop,
  }: Props = $props();

  let typing = $state<string | null>(null);
  let track: HTMLElement | undefined = $state();

  const number = $derived(typeof value === 'number' ? value : (control.low ?? 0));
  const open = $derived(value === null);
  const at = $derived(open ? 0 : Math.min(Math.max(place(control, number), 0), 1));
  const zero = $derived(
    control.scale === 'db' && (control.low ?? 0) < 0 && (control.high ?? 0) > 0
      ? place(control, 0)
      : 0,
  );
  const label = $derived(shown(control, value));
  const small = $derived(ticks());

  function ticks(): number[] {
    const found: number[] = [];
    control.marks.forEach((mark, i) => {
      const after = control.marks[i + 1];
      if (after === undefined) return;
      const parts = control.scale === 'log' ? 5 : 2;
      for (let k = 1; k < parts; k++)
        found.push(place(control, mark + ((after - mark) * k) / parts));
    });
    return found;
  }

  function set(next: number): void {
    const { low, high } = limits(control);
    onhold(Math.min(Math.max(next, low), high));
  }

  /** The share at which the drag began: of the value where its mark was pressed. */
  const gesture: Gesture<number> = {
    start(spot) {
      if (Math.abs(spot.across - at) * (spot.x / spot.across) < 8) return at;
      set(valueAt(control, spot.across));
      return spot.across;
    },
    move(share, spot, from) {
      set(valueAt(control, share + (spot.across - from.across) * (spot.fine ? 0.1 : 1)));
    },
    end: () => ondrop(),
  };

  function key(event: KeyboardEvent): void {
    const sign = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1 }[event.key];
    if (sign) {
      const by = event.shiftKey ? 0.002 : 0.01;
      let next = valueAt(control, at + sign * by);
      if (next === number) next = number + sign * control.step;
      set(Number(next.toPrecision(10)));
      ondrop();
    } else if (event.key === 'Home') {
      set(limits(control).low);
      ondrop();
    } else if (event.key === 'End') {
      set(limits(control).high);
      ondrop();
    } else if (/^[-0-9.∞]$/.test(event.key)) {
      typing = event.key;
    } else if (event.key === 'Enter') {
      typing = '';
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function wheel(event: WheelEvent): void {
    if (document.activeElement !== track) return;
    event.preventDefault();
    set(valueAt(control, at - Math.sign(event.deltaY) * (event.shiftKey ? 0.002 : 0.01)));
    ondrop();
  }

  function reset(): void {
    if (typeof control.default !== 'number') return;
    set(control.default);
    ondrop();
  }

  function finish(text: string | null): string | null {
    const note = text === null ? null : noteTyped(text, notes);
    if (note !== null) onnote?.(note);
    else if (text !== null) {
      const read = readTyped(text, control);
      if ('why' in read) return read.why;
      set(read.value);
      ondrop();
    }
    typing = null;
    track?.focus();
    return null;
  }
</script>

<div class="rule" title={control.doc}>
  <div class="head">
    <span class="name"
      >{control.label}
      {#if onlane && control.change !== 'structural'}
        <LaneButton label={control.label} {moves} onclick={onlane} />
      {/if}{#if onaim && !moves}<AimButton label={control.label} onclick={onaim} />{/if}</span
    >
    {#if typing !== null}
      <NumberInput label={control.label} start={typing} onfinish={finish} />
    {:else}
      <button class="value" tabindex="-1" onclick={() => (typing = '')} title="Type a value">
        <b>{label.text}</b> <span>{label.unit}</span>
      </button>
    {/if}
  </div>
  <div
    class="track"
    role="slider"
    tabindex="0"
    bind:this={track}
    aria-label={control.label}
    aria-valuemin={control.low ?? 0}
    aria-valuemax={control.high ?? 1}
    aria-valuenow={number}
    aria-valuetext="{label.text} {label.unit}"
    data-control={control.name}
    {@attach drag(gesture)}
    onkeydown={key}
    onwheel={wheel}
    ondblclick={reset}
  >
    <i class="line"></i>
    {#each small as share, index (index)}
      <i class="tick" style:left="{100 * share}%"></i>
    {/each}
    {#each control.marks as mark (mark)}
      <i class="mark" style:left="{100 * place(control, mark)}%"></i>
    {/each}
    {#each Object.entries(others) as [slot, other] (slot)}
      {#if typeof other === 'number'}
        <i class="other" style:left="{100 * place(control, other)}%"><b>{slot}</b></i>
      {/if}
    {/each}
    {#if !open}
      <i
        class="fill"
        style:left="{100 * Math.min(at, zero)}%"
        style:width="{100 * Math.abs(at - zero)}%"
      ></i>
      <i class="hair" style:left="{100 * at}%"></i>
    {/if}
  </div>
  <div class="marks">
    {#each control.marks as mark, index (mark)}
      <button
        tabindex="-1"
        style:left="{100 * place(control, mark)}%"
        class:first={index === 0}
        class:last={index === control.marks.length - 1}
        onclick={() => {
          set(mark);
          ondrop();
        }}>{marked(control, mark)}</button
      >
    {/each}
  </div>
</div>

<style>
  .rule {
    display: grid;
    grid-template-rows: 18px 14px 13px;
    min-width: 0;
  }
  .head {
    display: flex;
    justify-content: space-between;
    align-items: baseline;
    gap: var(--s2);
  }
  .name {
    color: var(--slate);
    white-space: nowrap;
  }
  .value {
    white-space: nowrap;
  }
  .value span {
    color: var(--muted);
  }
  .track {
    position: relative;
    cursor: ew-resize;
    touch-action: none;
  }
  i {
    position: absolute;
    display: block;
    pointer-events: none;
  }
  .line {
    left: 0;
    right: 0;
    top: 6px;
    height: 1px;
    background: var(--edge);
  }
  .tick,
  .mark {
    width: 1px;
    top: 6px;
    height: 3px;
    background: var(--edge);
  }
  .mark {
    height: 6px;
  }
  .fill {
    top: 5px;
    height: 3px;
    background: var(--ink);
  }
  .hair {
    top: 0;
    width: 3px;
    height: 13px;
    margin-left: -1px;
    background: var(--ink);
  }
  .other {
    top: -3px;
    width: 1px;
    height: 9px;
    background: var(--ochre);
  }
  .other b {
    position: absolute;
    left: 2px;
    top: -4px;
    font-size: var(--tiny);
    line-height: 9px;
    color: var(--ochre);
  }
  .marks {
    position: relative;
    font-size: var(--small);
    line-height: 13px;
    color: var(--muted);
  }
  .marks button {
    position: absolute;
    transform: translateX(-50%);
    white-space: nowrap;
  }
  .marks .first {
    transform: none;
  }
  .marks .last {
    transform: translateX(-100%);
  }
</style>
