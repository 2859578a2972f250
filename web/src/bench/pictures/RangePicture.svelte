<script lang="ts">
  import { untrack } from 'svelte';
  import { figure, hertz } from '../../lib/figures';
  import { hzAt, hzX, path } from '../../lib/spectrum';
  import Figure from './Figure.svelte';
  import RangeBox from './RangeBox.svelte';
  import SpectrumField, { TALL } from './SpectrumField.svelte';
  import type { PictureProps } from '../../lib/picture';

  let { stage, drawing, onReports, onhold, ondrop }: PictureProps = $props();

  let before = $state.raw<number[]>([]);
  let after = $state.raw<number[]>([]);
  let taken = $state(0);
  let most = $state(0);
  let drag: 'low' | 'high' | 'whole' | 'second' | null = null;
  let grabbed = 0;
  let began = { low: 0, high: 0 };
  const shapes = $derived(drawing.part('ranges') ?? []);
  const hz = $derived(drawing.part('hz') ?? []);

  const params = $derived(stage.params);
  const band = $derived(params.shape === 'band');
  const middle = $derived(Number(params.frequency_hz ?? 6500));
  const octaves = $derived(Number(params.width_oct ?? 1));
  const low = $derived(band ? middle * 2 ** (-octaves / 2) : middle);
  const high = $derived(band ? middle * 2 ** (octaves / 2) : 20000);
  const second = $derived(params.second_hz == null ? null : Number(params.second_hz));

  const edges = $derived([low, ...(band ? [high] : []), ...(second === null ? [] : [second])]);

  $effect(() =>
    onReports((batch) => {
      for (const { report } of batch) {
        if (report.spectrum) [before, after] = report.spectrum;
        taken = Math.max(0, ...(report.stages[stage.id]?.reduction ?? []));
        most = Math.max(most, taken);
      }
    }),
  );
  $effect(() => {
    void stage.id;
    most = 0;
  });

  function grab(x: number, width: number): boolean {
    drag = null;
    if (second !== null && Math.abs(hzX(second, width) - x) < 7) drag = 'second';
    else if (Math.abs(hzX(low, width) - x) < 7) drag = 'low';
    else if (band && Math.abs(hzX(high, width) - x) < 7) drag = 'high';
    else if (x > hzX(low, width) && x < hzX(high, width)) drag = 'whole';
    grabbed = hzAt(x, width);
    began = { low, high };
    return drag !== null;
  }

  const kept = (value: number): number =>
    Math.round(Math.min(Math.max(value, 1000), 16000) / 10) * 10;

  function move(x: number, width: number): void {
    const at = hzAt(x, width);
    if (drag === 'second') onhold('second_hz', kept(at));
    else if (!band) onhold('frequency_hz', kept((began.low * at) / grabbed));
    else {
      const factor = at / grabbed;
      const from = began.low * (drag === 'high' ? 1 : factor);
      const to = began.high * (drag === 'low' ? 1 : factor);
      const wide = Math.min(Math.max(Math.log2(Math.max(to / from, 1)), 0.2), 3);
      onhold('frequency_hz', kept(Math.sqrt(from * to)));
      if (drag !== 'whole') onhold('width_oct', Math.round(wide * 20) / 20);
    }
  }
</script>

<Figure>
  <SpectrumField
    label="Spectrum and range; drag the range, or its edges"
    fill={before}
    line={after}
    {grab}
    {move}
    drop={() => ondrop()}
  >
    {#snippet children(width)}
      <rect
        class="taken"
        x={hzX(low, width)}
        width={Math.max(hzX(high, width) - hzX(low, width), 2)}
        y="0"
        height={(taken / 36) * TALL}
      />
      {#each shapes as shape, i (i)}<path class="shape" d={path(shape, width, TALL, hz)} />{/each}
      <RangeBox {low} {high} {width} {edges} />
      <text x={hzX(low, width) + 4} y={TALL - 18} class="value">{hertz(low)}</text>
      {#if band}
        <text x={hzX(high, width) - 4} y={TALL - 30} class="value" text-anchor="end"
          >{hertz(high)}</text
        >
      {/if}
      {#if second !== null}
        <text x={hzX(second, width) + 4} y={TALL - 30} class="value">{hertz(second)}</text>
      {/if}
    {/snippet}
  </SpectrumField>
  {#snippet caption()}
    before and after, range {hertz(low)}{band ? ` to ${hertz(high)}` : ' and above'}
    <span class="most">{figure(-most, 1)} dB at most</span>
  {/snippet}
</Figure>

<style>
  .taken {
    fill: var(--madder);
    fill-opacity: 0.7;
    pointer-events: none;
  }
  .shape {
    fill: none;
    stroke: var(--edge);
    stroke-dasharray: 2 3;
    pointer-events: none;
  }
  .most {
    color: var(--madder);
  }
</style>
