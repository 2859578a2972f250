<script lang="ts">
  import { typeOver } from '../../lib/typing.svelte';
  import { untrack } from 'svelte';
  import { api } from '../../lib/api';
  import { sharedKind, stageOf } from '../../lib/chain';
  import { hertz } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import { bandAt, dbY, hzAt, hzX, LEVELS, path } from '../../lib/spectrum';
  import type { Split } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import Field from './Field.svelte';
  import HertzMarks from './HertzMarks.svelte';
  import { drag, type Gesture } from '../../lib/drag';

  interface Props {
    work: Work;
    live: Live;
    split: Split;
  }
  let { work, live, split }: Props = $props();

  let width = $state(500);
  let height = $state(176);
  let hz = $state.raw<number[]>([]);
  let bands = $state.raw<number[][]>([]);
  let before = $state.raw<number[]>([]);
  let after = $state.raw<number[]>([]);
  let reduction = $state.raw<Record<string, number>>({});
  let line: { stage: string } | null = null;

  const kind = $derived(sharedKind(split));
  const corners = $derived(split.crossovers_hz);
  const edges = $derived([20, ...corners, 20000]);
  const stages = $derived(split.branches.map((b) => (kind ? stageOf(b, kind) : null)));

  $effect(() => {
    void [corners.join(), split.slope, split.phase, work.state?.revision];
    untrack(() => void load());
  });
  $effect(() =>
    live.onReports((batch) => {
      for (const { report } of batch) {
        if (report.spectrum) [before, after] = report.spectrum;
        const found: Record<string, number> = {};
        for (const stage of stages) {
          if (stage) found[stage.id] = Math.max(0, ...(report.stages[stage.id]?.reduction ?? []));
        }
        reduction = found;
      }
    }),
  );

  async function load(): Promise<void> {
    if (!work.state) return;
    const found = await api.split(work.state.id, split.id).catch(() => null);
    hz = found?.hz ?? [];
    bands = found?.bands ?? [];
  }

  /** A crossover by its number, or the threshold of a band's stage by its id. */
  const gesture: Gesture<number | string> = {
    start({ x, y }) {
      const near = corners.findIndex((c) => Math.abs(hzX(c, width) - x) < 7);
      if (near >= 0) return near;
      const stage = stages[bandAt(edges, hzAt(x, width))];
      const threshold = Number(stage?.params.threshold_db);
      return stage && Math.abs(dbY(threshold, height) - y) < 8 ? stage.id : undefined;
    },
    move(held, { x, y }) {
      if (typeof held === 'number') {
        const low = (corners[held - 1] ?? 20) * 1.1;
        const high = (corners[held + 1] ?? 20000) / 1.1;
        const next = [...corners];
        next[held] = Math.round(Math.min(Math.max(hzAt(x, width), low, 20), high, 20000));
        work.holdCorners(split.id, next);
        return;
      }
      const level =
        Math.round((LEVELS.low + (1 - y / height) * (LEVELS.high - LEVELS.low)) * 2) / 2;
      work.holdParam(held, 'threshold_db', Math.min(Math.max(level, -60), 0));
    },
    end: () => void work.drop().then(load),
  };

  function key(event: KeyboardEvent, index: number): void {
    const low = Math.max(Math.ceil((corners[index - 1] ?? 18.2) * 1.1), 20);
    const high = Math.min(Math.floor((corners[index + 1] ?? 22000) / 1.1), 20000);
    const put = (hertz: number): void => {
      work.holdCorners(
        split.id,
        corners.map((c, i) => (i === index ? Math.round(hertz) : c)),
      );
      void work.drop().then(load);
    };
    if (typeOver(event, `Crossover ${index + 1}`, { unit: 'Hz', low, high }, put)) return;
    const sign = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    if (!sign) return;
    const factor = 2 ** ((sign * (event.shiftKey ? 0.2 : 1)) / 12);
    event.preventDefault();
    event.stopPropagation();
    put(Math.min(Math.max((corners[index] ?? 0) * factor, low), high));
  }
</script>

<Field bind:width bind:height>
  <svg {width} {height} role="group" aria-label="Spectrum and crossovers" {@attach drag(gesture)}>
    {#each split.branches as branch, i (branch.id)}
      {@const left = hzX(edges[i] ?? 20, width)}
      {@const right = hzX(edges[i + 1] ?? 20000, width)}
      {@const stage = stages[i]}
      {@const threshold = Number(stage?.params.threshold_db)}
      <rect
        class="band"
        class:odd={i % 2}
        class:chosen={work.branchId === branch.id}
        x={left}
        width={right - left}
        y="0"
        {height}
      />
      <text class="name" x={left + 5} y="27"
        ><tspan class="number">{i + 1}</tspan> {branch.name}</text
      >
      {#if stage && Number.isFinite(threshold)}
        {@const y = dbY(threshold, height)}
        {@const taken = (reduction[stage.id] ?? 0) * (height / (LEVELS.high - LEVELS.low))}
        <rect class="taken" x={right - 12} width="8" y="18" height={taken} />
        <line class="threshold" x1={left + 2} x2={right - 2} y1={y} y2={y} />
        <text class="value" x={left + 5} y={y - 3}>{threshold.toFixed(1)} dB</text>
      {/if}
    {/each}
    {#if before.length}<path
        class="before"
        d="{path(before, width, height)}L{width} {height}L0 {height}Z"
      />{/if}
    {#if after.length}<path class="after" d={path(after, width, height)} />{/if}
    <HertzMarks {width} {height} />
    {#each bands as band, i (i)}
      <path class="response" d={path(band, width, height, hz)} />
    {/each}
    {#each corners as corner, i (i)}
      <g
        class="corner"
        role="slider"
        tabindex="0"
        aria-label="Crossover {i + 1}"
        aria-valuenow={corner}
        aria-valuemin="20"
        aria-valuemax="20000"
        aria-valuetext={hertz(corner)}
        onkeydown={(e) => key(e, i)}
      >
        <rect class="grip" x={hzX(corner, width) - 6} width="12" y="0" {height} />
        <line x1={hzX(corner, width)} x2={hzX(corner, width)} y1="0" y2={height} />
        <text x={hzX(corner, width) + 4} y={height - 18}>{hertz(corner)}</text>
      </g>
    {/each}
  </svg>
</Field>

<style>
  .band {
    fill: var(--slate);
    fill-opacity: 0.03;
  }
  .band.odd {
    fill-opacity: 0.09;
  }
  .band.chosen {
    fill-opacity: 0.2;
  }
  .name {
    font-size: var(--small);
    fill: var(--slate);
  }
  .number {
    font-weight: 700;
  }
  .before {
    fill: var(--before);
    fill-opacity: 0.6;
  }
  .after {
    fill: none;
    stroke: var(--slate);
    stroke-width: 1.5;
  }
  .response {
    fill: none;
    stroke: var(--edge);
    stroke-dasharray: 2 3;
  }
  .threshold {
    stroke: var(--ink);
    stroke-width: 1.5;
    cursor: ns-resize;
  }
  .value {
    font-size: var(--mark);
    fill: var(--ink);
  }
  .taken {
    fill: var(--madder);
  }
  .corner line {
    stroke: var(--ink);
    stroke-width: 2;
  }
  .corner text {
    font-size: var(--small);
    font-weight: 600;
    fill: var(--ink);
  }
  .grip {
    fill: transparent;
    cursor: ew-resize;
  }
</style>
