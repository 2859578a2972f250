<script lang="ts">
  import LaneButton from './LaneButton.svelte';
  import DragNumber from './DragNumber.svelte';
  import type { Movable } from '../lib/work.svelte';

  /** The number of a declared control that may move by itself. */
  interface Props {
    of: Movable | null;
    label: string;
    value: number;
    words?: (value: number) => string;
    onhold: (value: number) => void;
    onlane?: () => void;
  }
  let { of, label, value, words, onhold, onlane = () => {} }: Props = $props();

  const shown = $derived(of?.now ?? value);

  function open(): void {
    of?.open();
    onlane();
  }
</script>

<span class="level"
  ><DragNumber
    {label}
    value={shown}
    low={of?.control.low ?? 0}
    high={of?.control.high ?? 1}
    unit={of?.control.unit ?? ''}
    step={of?.control.step ?? 0.1}
    reset={Number(of?.control.default ?? 0)}
    text={words?.(shown)}
    onhold={(v) => onhold(v ?? 0)}
    ondrop={() => of?.drop()}
  /><LaneButton {label} moves={of?.moves ?? false} onclick={open} /></span
>

<style>
  .level {
    white-space: nowrap;
  }
</style>
