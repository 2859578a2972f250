<script lang="ts">
  import { typeOver } from '../../lib/typing.svelte';
  import { untrack } from 'svelte';
  import {
    bandsOf,
    freshBand,
    gainOf,
    hasGain,
    hzOf,
    movedBand,
    narrowed,
    REACH,
    SHORT,
    stepped,
  } from '../../lib/bands';
  import { hertz, signed } from '../../lib/figures';
  import { hzAt, hzX, path } from '../../lib/spectrum';
  import type { BandRecord } from '../../lib/types';
  import BandHandle from './BandHandle.svelte';
  import Figure from './Figure.svelte';
  import HertzMarks from './HertzMarks.svelte';
  import { drag, spotIn, type Gesture } from '../../lib/drag';
  import type { PictureProps } from '../../lib/picture';

  let { stage, kind, drawing, bandIndex, onReports, onband, onhold, onset, ondrop }: PictureProps =
    $props();

  let tall = $state(152);
  let width = $state(410);
  let before = $state.raw<number[]>([]);
  let after = $state.raw<number[]>([]);
  let moves = $state.raw<number[]>([]);
  let svg: SVGSVGElement | undefined = $state();
  const control = $derived(kind.controls.find((c) => c.type === 'bands'));
  const bands = $derived(bandsOf(stage.params, control));
  const hz = $derived(drawing.part('hz') ?? []);
  const each = $derived(drawing.part('each') ?? []);
  const totals = $derived(drawing.part('totals') ?? {});
  const late = $derived(drawing.part('late_ms') ?? null);
  const enough = $derived(drawing.part('near') ?? true);
  const chosen = $derived(Math.min(bandIndex, bands.length - 1));
  const now = $derived(bands[chosen]);

  const gainY = (db: number): number => (tall / 2) * (1 - db / REACH);
  const held = (y: number): number => Math.min(Math.max(y, 7), tall - 7);
  const line = (levels: number[]): string =>
    levels
      .map((db, i) => {
        const y = Math.min(Math.max(gainY(db), -4), tall + 4);
        return `${i ? 'L' : 'M'}${hzX(hz[i] ?? 20, width).toFixed(1)} ${y.toFixed(1)}`;
      })
      .join('');

  $effect(() =>
    onReports((batch) => {
      for (const { report } of batch) {
        if (report.spectrum) [before, after] = report.spectrum;
        moves = report.stages[stage.id]?.moves ?? [];
      }
    }),
  );

  const hold = (next: BandRecord[]): void => onhold(control?.name ?? '', next);
  const put = (next: BandRecord[]): void => void onset(control?.name ?? '', next);

  function near(x: number, y: number): number {
    let [found, least] = [-1, 11];
    bands.forEach((band, i) => {
      const away = Math.hypot(hzX(hzOf(band), width) - x, held(gainY(gainOf(band))) - y);
      if (away < least) [found, least] = [i, away];
    });
    return found;
  }

  const gesture: Gesture<{ index: number; hz: number; gain: number }> = {
    start(at) {
      const index = near(at.x, at.y);
      const band = bands[index];
      if (!band) return undefined;
      onband(index);
      return { index, hz: hzOf(band), gain: gainOf(band) };
    },
    move(held, at, from) {
      if (!control) return;
      const fine = at.fine ? 0.1 : 1;
      const octaves = Math.log2(hzAt(at.x, width) / hzAt(from.x, width)) * fine;
      const gain = held.gain + ((from.y - at.y) / tall) * 2 * REACH * fine;
      hold(movedBand(bands, held.index, control, held.hz * 2 ** octaves, gain));
    },
    end: () => ondrop(),
  };

  function twice(event: MouseEvent & { currentTarget: Element }): void {
    const { x, y } = spotIn(event.currentTarget, event);
    const at = { x, y, hz: hzAt(x, width), gain: (1 - (2 * y) / tall) * REACH };
    const index = near(x, y);
    if (index >= 0) remove(index);
    else if (control && bands.length < (control.most ?? 12)) {
      onband(bands.length);
      const fresh = freshBand(control, { type: 'bell' });
      put(movedBand([...bands, fresh], bands.length, control, at.hz, at.gain));
    }
  }

  function remove(index: number): void {
    onband(Math.max(index - 1, 0));
    put(bands.filter((_, i) => i !== index));
  }

  function wheel(event: WheelEvent): void {
    if (!control || !now || svg?.contains(document.activeElement) !== true) return;
    event.preventDefault();
    put(narrowed(bands, chosen, control, event.deltaY < 0 ? 1.1 : 1 / 1.1));
  }

  function press(event: KeyboardEvent, index: number): void {
    const band = bands[index];
    if (!control || !band) return;
    onband(index);
    const level = event.key === '-' && hasGain(band);
    const field = control.fields.find((f) => f.name === (level ? 'gain_db' : 'hz'));
    const take = (value: number): void =>
      level
        ? put(movedBand(bands, index, control, hzOf(band), value))
        : put(movedBand(bands, index, control, value, gainOf(band)));
    if (field && typeOver(event, `Band ${index + 1}, ${field.label}`, field, take)) return;
    const next = stepped(bands, index, control, event.key, event.shiftKey);
    if (next) put(next);
    else if (event.key === 'Delete') remove(index);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
</script>

<Figure>
  <div class="field" bind:clientWidth={width} bind:clientHeight={tall} onwheel={wheel}>
    <svg
      bind:this={svg}
      {width}
      height={tall}
      role="group"
      aria-label="Response over the spectrum; drag bands, double-click to add one or take it away"
      {@attach drag(gesture)}
      ondblclick={twice}
    >
      {#if before.length}<path
          class="before"
          d="{path(before, width, tall)}L{width} {tall}L0 {tall}Z"
        />{/if}
      {#if after.length}<path class="after" d={path(after, width, tall)} />{/if}
      <HertzMarks {width} height={tall} few={width <= 300} />
      {#each [-12, -6, 0, 6, 12] as db (db)}
        <line class="grid" class:zero={db === 0} x1="0" x2={width} y1={gainY(db)} y2={gainY(db)} />
        <text x={width - 3} y={gainY(db) - 2} text-anchor="end">{signed(db, 0)}</text>
      {/each}
      {#each each as levels, i (i)}
        {#if i === chosen}<path class="each" d="{line(levels)}L{width} {gainY(0)}L0 {gainY(0)}Z" />
        {/if}
      {/each}
      {#each Object.entries(totals) as [name, levels] (name)}
        <path class="total" class:part={name !== 'both'} d={line(levels)} />
      {/each}
      {#each bands as band, i (i)}
        <BandHandle
          {band}
          index={i}
          chosen={i === chosen}
          x={hzX(hzOf(band), width)}
          y={(db) => held(gainY(db))}
          move={moves[i] ?? 0}
          onfocus={() => onband(i)}
          onkey={(e) => press(e, i)}
        />
      {/each}
      {#if !bands.length}
        <text x={width / 2} y={tall / 2 - 8} text-anchor="middle">double-click adds a band</text>
      {/if}
    </svg>
  </div>
  {#snippet caption()}
    {#if now}
      <span
        >{chosen + 1}: {SHORT[String(now.type)]} at {hertz(hzOf(now))}{hasGain(now)
          ? `, ${signed(gainOf(now))} dB`
          : ''}</span
      >
      {#if late !== null}<span title={enough ? '' : 'This phase would need a longer filter.'}
          >{Math.round(late)} ms late{enough ? '' : ', rounder than set'}</span
        >
      {:else if width > 300}<span>drag; wheel or Page keys: width</span>{/if}
    {:else}<span>before and after</span>{/if}
  {/snippet}
</Figure>

<style>
  .field {
    position: relative;
    min-height: 0;
    background: var(--field);
    border: 1px solid var(--hair);
    overflow: hidden;
    touch-action: none;
  }
  svg {
    position: absolute;
  }
  text {
    font-size: var(--mark);
    fill: var(--muted);
    pointer-events: none;
  }
  .grid {
    stroke: var(--hair);
  }
  .zero {
    stroke: var(--edge);
  }
  .before {
    fill: var(--before);
    fill-opacity: 0.6;
  }
  .after {
    fill: none;
    stroke: var(--slate);
    stroke-opacity: 0.7;
  }
  .each {
    fill: var(--slate);
    fill-opacity: 0.2;
  }
  .total {
    fill: none;
    stroke: var(--ink);
    stroke-width: 2;
  }
  .part {
    stroke-width: 1.2;
    stroke-dasharray: 5 3;
  }
</style>
