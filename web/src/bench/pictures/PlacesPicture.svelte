<script lang="ts">
  import { bandsOf, changedBand, hzOf } from '../../lib/bands';
  import { drag, type Gesture } from '../../lib/drag';
  import { figure, hertz } from '../../lib/figures';
  import type { PictureProps } from '../../lib/picture';
  import { hzAt, hzX } from '../../lib/spectrum';
  import Field from './Field.svelte';
  import Figure from './Figure.svelte';
  import HertzMarks from './HertzMarks.svelte';

  let { stage, kind, drawing, scan, bandIndex, onReports, onband, onhold, ondrop }: PictureProps =
    $props();

  const FLAG = 16;
  const RANGE_DB = 54;
  let tall = $state(220);
  let width = $state(520);
  let live = $state.raw<number[][]>([]);
  const control = $derived(kind.controls.find((c) => c.type === 'bands'));
  const places = $derived(bandsOf(stage.params, control));
  const chosen = $derived(Math.min(bandIndex, places.length - 1));
  const now = $derived(places[chosen]);
  const bounds = $derived(drawing.part('bounds') ?? []);
  const total = $derived(drawing.part('total') ?? []);
  const hz = $derived(drawing.part('hz') ?? []);
  const foot = $derived(tall - 30);
  /** The top of the scanned spectrum is the top of the field. */
  const top = $derived(scan ? Math.ceil(Math.max(...scan.level_db) / 6) * 6 : 0);

  const levelY = (db: number): number =>
    FLAG + 6 + (foot - FLAG - 6) * Math.min(Math.max((top - db) / RANGE_DB, 0), 1);
  const line = (at: number[], levels: number[]): string =>
    levels
      .map(
        (db, i) => `${i ? 'L' : 'M'}${hzX(at[i] ?? 20, width).toFixed(1)} ${levelY(db).toFixed(1)}`,
      )
      .join('');

  /** What all places take at most, at any frequency. */
  function takenAt(at: number): number {
    const step = Math.log((hz[1] ?? 2) / (hz[0] ?? 1));
    const place = Math.log(at / (hz[0] ?? 20)) / step;
    const low = Math.min(Math.max(Math.floor(place), 0), total.length - 2);
    const share = Math.min(Math.max(place - low, 0), 1);
    return (total[low] ?? 0) * (1 - share) + (total[low + 1] ?? 0) * share;
  }
  const tamed = $derived(scan ? scan.level_db.map((db, i) => db + takenAt(scan.hz[i] ?? 20)) : []);

  $effect(() =>
    onReports((batch) => {
      for (const { report } of batch) if (report.spectrum) live = report.spectrum;
    }),
  );

  const LIVE = (i: number): number => 20 * 2 ** (i / 12);
  const liveLine = (levels: number[]): string => {
    const most = Math.max(...levels);
    const at = levels.map((_, i) => LIVE(i));
    return line(
      at,
      levels.map((db) => db - most + top),
    );
  };

  const gesture: Gesture<{ index: number; hz: number; depth: number }> = {
    start(at) {
      if (at.y > FLAG + 4) return undefined;
      const index = places.findIndex((p) => Math.abs(hzX(hzOf(p), width) - at.x) < 9);
      const place = places[index];
      if (!place) return undefined;
      onband(index);
      return { index, hz: hzOf(place), depth: Number(place.depth_db) };
    },
    move(held, at, from) {
      if (!control) return;
      const fine = at.fine ? 0.1 : 1;
      const octaves = Math.log2(hzAt(at.x, width) / hzAt(from.x, width)) * fine;
      const depth = held.depth + ((at.y - from.y) / 8) * fine;
      const change = {
        hz: Math.round(Math.min(Math.max(held.hz * 2 ** octaves, 40), 16000)),
        depth_db: Math.round(2 * Math.min(Math.max(depth, 0), 18)) / 2,
      };
      onhold(
        control.name,
        changedBand(places, held.index, () => change),
      );
    },
    end: () => ondrop(),
  };
  const edges = $derived(
    now
      ? [-0.5, 0.5].map((side) => hzX(hzOf(now) * 2 ** (side * Number(now.width_oct)), width))
      : [],
  );
</script>

<Figure>
  <Field bind:width bind:height={tall}>
    <svg
      {width}
      height={tall}
      role="img"
      aria-label="Spectrum of what was scanned, its surroundings, and what is taken of it"
      {@attach drag(gesture)}
    >
      <defs>
        <pattern id="taken" width="5" height="5" patternUnits="userSpaceOnUse">
          <path d="M0 5 L5 0" class="hatch" />
        </pattern>
      </defs>
      {#if scan}
        <path
          class="taken"
          d="{line(scan.hz, scan.level_db)}{line(
            [...scan.hz].reverse(),
            [...tamed].reverse(),
          ).replace('M', 'L')}Z"
        />
        <path
          class="fill"
          d="{line(scan.hz, tamed)}L{hzX(scan.hz[scan.hz.length - 1] ?? 20000, width)} {foot}L{hzX(
            scan.hz[0] ?? 20,
            width,
          )} {foot}Z"
        />
        <path class="tamed" d={line(scan.hz, tamed)} />
        <path class="around" d={line(scan.hz, scan.around_db)} />
        {#each [0, 12, 24, 36, 48] as down (down)}
          <text x="3" y={levelY(top - down) + 3}>{top - down}</text>
        {/each}
      {:else if live[0]}
        <path class="fill" d="{liveLine(live[0])}L{width} {foot}L0 {foot}Z" />
        {#if live[1]}<path class="tamed" d={liveLine(live[1])} />{/if}
      {/if}
      <HertzMarks {width} height={foot + 14} few={width <= 300} />
      {#each bounds as [end, name], i (name)}
        {@const from = hzX(Math.max(bounds[i - 1]?.[0] ?? 20, 20), width)}
        {@const to = hzX(end, width)}
        <path class="bracket" d="M{from + 2} {foot + 17}H{to - 2}" />
        <text x={(from + to) / 2} y={tall - 2} text-anchor="middle" class="region"
          >{to - from > 36 ? name : ''}</text
        >
      {/each}
      {#each edges as x (x)}<line class="edge" x1={x} x2={x} y1={FLAG} y2={foot} />{/each}
      {#each places as place, i (i)}
        {@const x = hzX(hzOf(place), width)}
        <line class="pole" class:off={place.on === false} x1={x} x2={x} y1={FLAG} y2={foot} />
        <rect
          class="flag"
          class:chosen={i === chosen}
          class:off={place.on === false}
          x={x - 8}
          y="1"
          width="16"
          height={FLAG - 1}
        />
        <text class="number" class:chosen={i === chosen} {x} y="13" text-anchor="middle"
          >{i + 1}</text
        >
      {/each}
      {#if !scan && !live[0]}
        <text x={width / 2} y={tall / 2 - 8} text-anchor="middle"
          >a scan draws its spectrum here</text
        >
      {/if}
    </svg>
  </Field>
  {#snippet caption()}
    {#if now}<span
        >{chosen + 1}: {hertz(hzOf(now))}, at most {figure(Number(now.depth_db), 1)} dB</span
      >{/if}
    {#if width > 440}<span>1/24 octave, dB; dashed: surroundings; drag a flag: Hz and depth</span
      >{/if}
  {/snippet}
</Figure>

<style>
  svg {
    position: absolute;
  }
  text {
    font-size: var(--mark);
    fill: var(--muted);
    pointer-events: none;
  }
  .fill {
    fill: var(--before);
    fill-opacity: 0.6;
  }
  .tamed {
    fill: none;
    stroke: var(--ink);
    stroke-width: 1.3;
  }
  .around {
    fill: none;
    stroke: var(--slate);
    stroke-dasharray: 4 3;
  }
  .taken {
    fill: url(#taken);
    stroke: var(--madder);
    stroke-width: 0.8;
  }
  .hatch {
    stroke: var(--madder);
    stroke-width: 1.5;
  }
  .bracket {
    stroke: var(--edge);
    fill: none;
  }
  .pole {
    stroke: var(--ink);
    stroke-opacity: 0.35;
  }
  .edge {
    stroke: var(--slate);
    stroke-opacity: 0.7;
  }
  .flag {
    fill: var(--field);
    stroke: var(--ink);
    cursor: move;
  }
  .flag.chosen {
    fill: var(--ink);
  }
  .off {
    stroke-dasharray: 2 2;
  }
  .number {
    fill: var(--ink);
    stroke: none;
    font-weight: 600;
  }
  .number.chosen {
    fill: var(--field);
  }
</style>
