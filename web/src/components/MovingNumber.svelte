<script lang="ts">
  import LaneButton from './LaneButton.svelte';
  import DragNumber from './DragNumber.svelte';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    owner: string;
    control: string;
    label: string;
    value: number;
    words?: (value: number) => string;
    onhold: (value: number) => void;
    onlane?: () => void;
  }
  let { work, owner, control, label, value, words, onhold, onlane = () => {} }: Props = $props();

  const declared = $derived(work.declared({ owner, control }));
  const shown = $derived(work.moving(owner, control) ?? value);

  function open(): void {
    work.lane = { owner, control };
    onlane();
  }
</script>

<span class="level"
  ><DragNumber
    {label}
    value={shown}
    low={declared?.low ?? 0}
    high={declared?.high ?? 1}
    unit={declared?.unit ?? ''}
    step={declared?.step ?? 0.1}
    reset={Number(declared?.default ?? 0)}
    text={words?.(shown)}
    onhold={(v) => onhold(v ?? 0)}
    ondrop={() => void work.drop()}
  /><LaneButton {label} moves={work.laneOf(owner, control) !== null} onclick={open} /></span
>

<style>
  .level {
    white-space: nowrap;
  }
</style>
