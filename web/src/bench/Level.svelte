<script lang="ts">
  import LaneButton from '../components/LaneButton.svelte';
  import Scrub from '../components/Scrub.svelte';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    owner: string;
    control: string;
    label: string;
    value: number;
    low: number;
    high: number;
    unit?: string;
    words?: (value: number) => string;
    onhold: (value: number) => void;
    onlane?: () => void;
  }
  let {
    work,
    owner,
    control,
    label,
    value,
    low,
    high,
    unit = 'dB',
    words,
    onhold,
    onlane = () => {},
  }: Props = $props();

  const shown = $derived(work.moving(owner, control) ?? value);

  function open(): void {
    work.lane = { owner, control };
    onlane();
  }
</script>

<span class="level"
  ><Scrub
    {label}
    value={shown}
    {low}
    {high}
    {unit}
    step={unit === 'dB' ? 0.1 : 0.01}
    reset={0}
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
