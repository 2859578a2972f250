<script lang="ts">
  import { untrack } from 'svelte';
  import { api } from '../../lib/api';
  import { signed } from '../../lib/figures';
  import type { SplitDrawing } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import Field from './Field.svelte';
  import { drag, type Gesture, type Spot } from '../../lib/drag';

  interface Props {
    work: Work;
    name: string;
    law: string;
    position: number;
    names: string[];
    onhold: (position: number) => void;
  }
  let { work, name, law, position, names, onhold }: Props = $props();

  let width = $state(400);
  let height = $state(176);
  let join = $state.raw<SplitDrawing['join'] | null>(null);

  const FLOOR = -30;
  const ROOF = 12;
  const y = (db: number): number =>
    height * (1 - (Math.min(Math.max(db, FLOOR), ROOF) - FLOOR) / (ROOF - FLOOR));

  $effect(() => {
    void [name, law, work.fresh, work.state?.revision];
    untrack(() => void load());
  });

  async function load(): Promise<void> {
    if (!work.state) return;
    const found = await api.split(work.state.id, name).catch(() => null);
    join = found?.join ?? null;
  }

  function line(levels: number[]): string {
    const travel = join?.travel ?? [];
    return levels
      .map(
        (db, i) => `${i ? 'L' : 'M'}${((travel[i] ?? 0) * width).toFixed(1)} ${y(db).toFixed(1)}`,
      )
      .join('');
  }

  const put = (at: Spot): void =>
    onhold(Math.round(Math.min(Math.max(at.across, 0), 1) * 100) / 100);
  const gesture: Gesture<true> = {
    start(at) {
      put(at);
      return true;
    },
    move: (_, at) => put(at),
    end: () => void work.drop(),
  };
</script>

<div class="blend">
  <Field bind:width bind:height cursor="ew-resize">
    <svg
      {width}
      {height}
      role="img"
      aria-label="Blend: drag from {names[0]} to {names[1]}"
      {@attach drag(gesture)}
    >
      {#each [-24, -12, 0, 6] as db (db)}
        <line class="grid" x1="0" x2={width} y1={y(db)} y2={y(db)} />
      {/each}
      {#if join}
        <path class="first" d={line(join.first)} />
        <path class="second" d={line(join.second)} />
        {#if join.loudness}<path class="loud" d={line(join.loudness)} />{/if}
      {/if}
      <line class="hand" x1={position * width} x2={position * width} y1="0" y2={height} />
      <rect class="grip" x={position * width - 5} y={height / 2 - 5} width="10" height="10" />
      {#each [-24, -12, 0, 6] as db (db)}
        <text class="mark" x="4" y={y(db) - 2}>{db} dB</text>
      {/each}
      <text class="end" x="44" y={height - 6}>{names[0]}</text>
      <text class="end" text-anchor="end" x={width - 6} y={height - 6}>{names[1]}</text>
    </svg>
  </Field>
  {#if law === 'steady'}
    <p>
      {#if !join?.measured}not measured yet: linear until then
      {:else}{names[1]} matched by {signed(join.match_db ?? 0)} dB · alike {(
          join.alike ?? 0
        ).toFixed(2)} · heavy line: loudness of the blend{/if}
    </p>
  {/if}
</div>

<style>
  .blend {
    display: grid;
    grid-template-rows: minmax(0, 1fr) auto;
    height: 100%;
  }
  .grid {
    stroke: var(--hair);
  }
  .mark {
    font-size: var(--mark);
    fill: var(--muted);
  }
  p {
    margin: 4px 0 0;
    font-size: var(--small);
    color: var(--muted);
  }
  .first {
    fill: none;
    stroke: var(--edge);
    stroke-width: 1.5;
  }
  .second {
    fill: none;
    stroke: var(--slate);
    stroke-width: 1.5;
    stroke-dasharray: 5 3;
  }
  .loud {
    fill: none;
    stroke: var(--ink);
    stroke-width: 3;
  }
  .hand {
    stroke: var(--ink);
  }
  .grip {
    fill: var(--field);
    stroke: var(--ink);
    stroke-width: 2;
  }
  .end {
    font-size: var(--note);
    font-weight: 600;
    fill: var(--slate);
  }
</style>
