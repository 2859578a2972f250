<script lang="ts">
  import { figure, readTyped } from '../lib/figures';
  import NumberInput from './NumberInput.svelte';
  import { drag, type Gesture } from '../lib/drag';

  interface Props {
    label: string;
    value: number | null;
    low: number;
    high: number;
    unit: string;
    step?: number;
    log?: boolean;
    reset: number | null;
    text?: string;
    /** The word for no value, where there may be none. */
    empty?: string;
    onhold: (value: number | null) => void;
    ondrop: () => void;
  }
  let {
    label,
    value,
    low,
    high,
    unit,
    step = 0.1,
    log = false,
    reset,
    text,
    empty = 'open',
    onhold,
    ondrop,
  }: Props = $props();

  let typing = $state<string | null>(null);
  const words = $derived(text ?? (value === null ? 'open' : `${figure(value, 1)} ${unit}`));

  function set(next: number): void {
    const rounded = Number((Math.round(next / step) * step).toPrecision(8));
    onhold(Math.min(Math.max(rounded, low), high));
  }

  const gesture: Gesture<number> = {
    start: () => value ?? (log ? Math.sqrt(low * high) : low),
    move(began, at, from) {
      const by = (at.pageX - from.pageX) * (at.fine ? 0.1 : 1);
      if (by) set(log ? began * 2 ** (by / 40) : began + (by * (high - low)) / 300);
    },
    end: () => ondrop(),
  };

  function key(event: KeyboardEvent): void {
    const sign = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1 }[event.key];
    const fine = event.shiftKey ? 0.2 : 1;
    if (sign) {
      const from = value ?? reset ?? low;
      set(log ? from * 2 ** ((sign * fine) / 12) : from + sign * fine * step * 5);
      ondrop();
    } else if (/^[-0-9.]$/.test(event.key)) typing = event.key;
    else if (event.key === 'Enter') typing = '';
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function finish(text: string | null): string | null {
    if (text !== null) {
      if (text.trim() === empty && reset === null) onhold(null);
      else {
        const read = readTyped(text, { unit, low, high });
        if ('why' in read) return reset === null ? `${read.why}, or “${empty}”` : read.why;
        set(read.value);
      }
      ondrop();
    }
    typing = null;
    return null;
  }
</script>

{#if typing !== null}
  <NumberInput {label} start={typing} onfinish={finish} />
{:else}
  <span
    class="scrub"
    role="slider"
    tabindex="0"
    aria-label={label}
    aria-valuemin={low}
    aria-valuemax={high}
    aria-valuenow={value ?? low}
    aria-valuetext={words}
    title="{label}: drag, arrow keys, or type; double click for the default"
    {@attach drag(gesture)}
    onkeydown={key}
    ondblclick={() => {
      onhold(reset);
      ondrop();
    }}>{words}</span
  >
{/if}

<style>
  .scrub {
    cursor: ew-resize;
    touch-action: none;
    white-space: nowrap;
    border-bottom: 1px dotted var(--edge);
    user-select: none;
  }
</style>
