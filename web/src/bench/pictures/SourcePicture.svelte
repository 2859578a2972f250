<script lang="ts">
  import { hertz } from '../../lib/figures';
  import { hzAt, hzX } from '../../lib/spectrum';
  import Figure from './Figure.svelte';
  import RangeBox from './RangeBox.svelte';
  import SpectrumField from './SpectrumField.svelte';
  import type { PictureProps } from '../../lib/picture';

  let { stage, onReports, onhold, ondrop }: PictureProps = $props();

  const LEAST = 25;
  const MOST = 16000;
  const GAP = 1.06;
  let before = $state.raw<number[]>([]);
  let after = $state.raw<number[]>([]);
  let drag: 'low' | 'high' | 'whole' | null = null;
  let grabbed = 0;
  let began = { low: 0, high: 0 };
  const low = $derived(Number(stage.params.low_hz ?? 40));
  const high = $derived(Number(stage.params.high_hz ?? 90));
  const order = $derived(String(stage.params.order ?? 'both'));
  const orders = $derived(
    [2, 3].filter((n) => order === 'both' || (order === 'even') === (n === 2)),
  );

  $effect(() =>
    onReports((batch) => {
      for (const { report } of batch) if (report.spectrum) [before, after] = report.spectrum;
    }),
  );

  const kept = (hz: number): number => Number(Math.min(Math.max(hz, LEAST), MOST).toPrecision(3));

  function grab(x: number, width: number): boolean {
    drag = null;
    if (Math.abs(hzX(low, width) - x) < 7) drag = 'low';
    else if (Math.abs(hzX(high, width) - x) < 7) drag = 'high';
    else if (x > hzX(low, width) && x < hzX(high, width)) drag = 'whole';
    grabbed = hzAt(x, width);
    began = { low, high };
    return drag !== null;
  }

  function move(x: number, width: number): void {
    let factor = hzAt(x, width) / grabbed;
    if (drag === 'whole') {
      factor = Math.min(Math.max(factor, LEAST / began.low), MOST / began.high);
      onhold('low_hz', kept(began.low * factor));
      onhold('high_hz', kept(began.high * factor));
    } else if (drag === 'low') {
      onhold('low_hz', kept(Math.min(began.low * factor, began.high / GAP)));
    } else onhold('high_hz', kept(Math.max(began.high * factor, began.low * GAP)));
  }
</script>

<Figure>
  <SpectrumField
    label="Spectrum and range that gets harmonics; drag the range, or its edges"
    fill={before}
    line={after}
    few
    {grab}
    {move}
    drop={() => ondrop()}
  >
    {#snippet children(width)}
      {#each orders as n (n)}
        <rect
          class="made"
          x={hzX(low * n, width)}
          width={Math.max(hzX(high * n, width) - hzX(low * n, width), 2)}
          y={14 * (n - 2)}
          height="14"
        />
        <text x={hzX(high * n, width) + 3} y={14 * (n - 2) + 11}>{n}.</text>
      {/each}
      <RangeBox {low} {high} {width} edges={[low, high]} />
    {/snippet}
  </SpectrumField>
  {#snippet caption()}range {hertz(low)} to {hertz(high)}{/snippet}
</Figure>

<style>
  .made {
    fill: var(--slate);
    fill-opacity: 0.25;
    pointer-events: none;
  }
</style>
