<script lang="ts">
  import Slider from './Slider.svelte';
  import type { Work } from '../lib/work.svelte';

  /** The slider of a declared control that may move by itself. */
  interface Props {
    work: Work;
    owner: string;
    control: string;
    value: number;
    label?: string;
    onhold: (value: number) => void;
    onlane?: () => void;
    onaim?: () => void;
  }
  let { work, owner, control, value, label, onhold, onlane = () => {}, onaim }: Props = $props();

  const declared = $derived(work.declared({ owner, control }));

  function open(): void {
    work.lane = { owner, control };
    onlane();
  }
</script>

{#if declared}
  <Slider
    control={label ? { ...declared, label } : declared}
    value={work.moving(owner, control) ?? value}
    moves={work.laneOf(owner, control) !== null}
    onlane={open}
    {onaim}
    onhold={(v) => onhold(v ?? 0)}
    ondrop={() => void work.drop()}
  />
{/if}
