<script lang="ts">
  import Slider from './Slider.svelte';
  import type { Movable } from '../lib/work.svelte';

  /** The slider of a declared control that may move by itself. */
  interface Props {
    of: Movable | null;
    value: number;
    label?: string;
    onhold: (value: number) => void;
    onlane?: () => void;
    onaim?: () => void;
  }
  let { of, value, label, onhold, onlane = () => {}, onaim }: Props = $props();
</script>

{#if of}
  <Slider
    control={label ? { ...of.control, label } : of.control}
    value={of.now ?? value}
    moves={of.moves}
    onlane={() => {
      of.open();
      onlane();
    }}
    {onaim}
    onhold={(v) => onhold(v ?? 0)}
    ondrop={of.drop}
  />
{/if}
