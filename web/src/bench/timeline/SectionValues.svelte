<script lang="ts">
  import DragNumber from '../../components/DragNumber.svelte';
  import { inPercent, shown, type LaneScale } from '../../lib/lane';

  interface Props {
    scale: LaneScale;
    /** What stands in each section that can be seen, and where it begins, in pixels. */
    parts: { name: string; left: number; value: number }[];
    rest: number;
    onset: (section: string, value: number) => Promise<void>;
  }
  let { scale, parts, rest, onset }: Props = $props();

  let held = $state<Record<string, number>>({});

  async function drop(name: string): Promise<void> {
    const value = held[name];
    if (value === undefined) return;
    await onset(name, value);
    delete held[name];
  }
</script>

{#each parts as part (part.name)}
  {@const value = held[part.name] ?? part.value}
  <span class="section" style:left="{part.left + 4}px">
    <DragNumber
      label="{scale.title} in {part.name}"
      {value}
      low={scale.low}
      high={scale.high}
      unit={scale.unit}
      step={inPercent(scale) ? 0.01 : 0.1}
      log={scale.log}
      reset={rest}
      text={shown(scale, value)}
      onhold={(v) => (held[part.name] = v ?? rest)}
      ondrop={() => void drop(part.name)}
    />
  </span>
{/each}

<style>
  .section {
    position: absolute;
    bottom: 3px;
    padding: 0 var(--s1);
    background: var(--field);
    font-weight: 600;
  }
</style>
