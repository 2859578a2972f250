<script lang="ts">
  import { figure, hertz } from '../../lib/figures';
  import { hzAt, hzX, path } from '../../lib/spectrum';
  import Figure from './Figure.svelte';
  import SpectrumField, { TALL } from './SpectrumField.svelte';
  import type { PictureProps } from '../../lib/picture';

  let { stage, onReports, onhold, ondrop }: PictureProps = $props();

  let middle = $state.raw<number[]>([]);
  let sides = $state.raw<number[]>([]);
  let were = $state.raw<number[]>([]);
  const mono = $derived(stage.params.mono_below_hz as number | null | undefined);
  const apart = $derived(
    middle.length ? Math.max(...sides.slice(10, 50)) - Math.max(...middle.slice(10, 50)) : null,
  );

  $effect(() =>
    onReports((batch) => {
      for (const { report } of batch) {
        if (report.spectrum) middle = report.spectrum[1];
        if (report.sides) [were, sides] = report.sides;
      }
    }),
  );

  const grab = (x: number, width: number): boolean =>
    mono != null && Math.abs(hzX(mono, width) - x) < 8;

  function move(x: number, width: number): void {
    onhold('mono_below_hz', Math.round(Math.min(Math.max(hzAt(x, width), 20), 500)));
  }
</script>

<Figure>
  <SpectrumField
    label="Middle and sides over frequency; drag the line below which there are no sides"
    fill={middle}
    line={sides}
    few
    {grab}
    {move}
    drop={() => ondrop()}
  >
    {#snippet children(width)}
      {#if were.length}<path class="were" d={path(were, width, TALL)} />{/if}
      {#if mono != null}
        <line class="edge" x1={hzX(mono, width)} x2={hzX(mono, width)} y1="0" y2={TALL} />
        <text class="value" x={hzX(mono, width) + 4} y="11">mono below {hertz(mono)}</text>
      {/if}
    {/snippet}
  </SpectrumField>
  {#snippet caption()}
    middle, sides <span class="line">before, after</span>
    {#if apart !== null}<span>sides {figure(apart, 1)} dB</span>{/if}
  {/snippet}
</Figure>

<style>
  .were {
    fill: none;
    stroke: var(--edge);
    stroke-dasharray: 3 2;
    pointer-events: none;
  }
</style>
