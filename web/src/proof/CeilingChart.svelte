<script lang="ts">
  import { figure } from '../lib/figures';
  import { spaced } from '../lib/labels';
  import type { Proving } from '../lib/proving.svelte';

  interface Props {
    proving: Proving;
  }
  let { proving }: Props = $props();

  const WIDTH = 500;
  const HEIGHT = 92;
  const [LEFT, RIGHT, TOP, FOOT] = [52, 110, 16, 74];
  const ceiling = $derived(proving.ceiling);
  const points = $derived([...(ceiling?.points ?? [])].sort((a, b) => a.ceiling_db - b.ceiling_db));
  const span = $derived.by(() => {
    const all = points.map((p) => p.ceiling_db);
    const low = Math.floor(Math.min(...all) - 0.4);
    return { low, high: Math.max(Math.ceil(Math.max(...all)), low + 1) };
  });
  const most = $derived(Math.max(1, ...points.flatMap((p) => Object.values(p.overs))));
  const lines = $derived.by(() => {
    const all = [...new Set(points.flatMap((p) => Object.keys(p.overs)))];
    const names = all.filter((name) => points.some((p) => (p.overs[name] ?? 0) > 0));
    const found = names.map((name) => ({
      name,
      words: proving.rows.find((r) => r.name === name)?.words ?? name,
      at: points
        .filter((p) => name in p.overs)
        .map((p) => ({ x: x(p.ceiling_db), y: y(p.overs[name] ?? 0), overs: p.overs[name] ?? 0 })),
    }));
    // Names beside the last points.
    const ends = found.map(({ at }) => (at[at.length - 1]?.y ?? FOOT) + 3);
    const labels = spaced(ends, 11, FOOT);
    return found.map((line, i) => ({ ...line, label: labels[i] ?? FOOT }));
  });

  function x(db: number): number {
    return LEFT + ((db - span.low) / (span.high - span.low)) * (WIDTH - LEFT - RIGHT);
  }
  function y(overs: number): number {
    return FOOT - (overs / most) * (FOOT - TOP);
  }
</script>

{#if ceiling && points.length > 1}
  <svg viewBox="0 0 {WIDTH} {HEIGHT}" role="img" aria-label="Overs by ceiling, as tried">
    <text x="0" y={TOP + 8}>overs</text>
    <text x="0" y={FOOT + 13}>ceiling</text>
    <line x1={LEFT} y1={FOOT} x2={WIDTH - RIGHT} y2={FOOT} class="axis" />
    {#each Array.from({ length: span.high - span.low + 1 }, (_, i) => span.low + i) as db (db)}
      <text x={x(db)} y={FOOT + 13} text-anchor="middle">{figure(db, 0)}</text>
    {/each}
    <text x={WIDTH - RIGHT + 10} y={FOOT + 13}>dB</text>
    <line x1={x(ceiling.now_db)} x2={x(ceiling.now_db)} y1={TOP} y2={FOOT} class="now" />
    <text x={x(ceiling.now_db)} y={TOP - 4} text-anchor="middle"
      >now {figure(ceiling.now_db, 1)}</text
    >
    {#each lines as line (line.name)}
      <polyline points={line.at.map((p) => `${p.x},${p.y}`).join(' ')} />
      {#each line.at as point, i (i)}<rect
          x={point.x - 1.5}
          y={point.y - 1.5}
          width="3"
          height="3"
        />{/each}
      <text class="name" x={WIDTH - RIGHT + 10} y={line.label}
        >{line.at[line.at.length - 1]?.overs ?? 0} {line.words}</text
      >
    {/each}
    {#if ceiling.found_db != null}
      <line
        x1={x(ceiling.found_db)}
        x2={x(ceiling.found_db)}
        y1={TOP}
        y2={FOOT + 4}
        class="found"
      />
      <text x={x(ceiling.found_db)} y={TOP - 4} text-anchor="middle" class="bold"
        >{figure(ceiling.found_db, 1)} leaves none</text
      >
    {/if}
  </svg>
{/if}

<style>
  svg {
    width: 100%;
    max-width: 500px;
    display: block;
  }
  text {
    font-size: var(--small);
    fill: var(--slate);
  }
  .name,
  .bold {
    fill: var(--ink);
  }
  .bold {
    font-weight: 700;
  }
  .axis,
  polyline {
    stroke: var(--ink);
    fill: none;
  }
  rect {
    fill: var(--ink);
  }
  .now {
    stroke: var(--edge);
    stroke-dasharray: 2 2;
  }
  .found {
    stroke: var(--ink);
    stroke-width: 3;
  }
</style>
