<script lang="ts">
  import { untrack } from 'svelte';
  import { signed } from '../../lib/figures';
  import Figure from './Figure.svelte';
  import { drag, grabbed, type Gesture } from '../../lib/drag';
  import type { PictureProps } from '../../lib/picture';

  let { stage, drawing, onhold, ondrop }: PictureProps = $props();

  const WIDE = 216;
  const TALL = 152;
  const FROM = -10;
  const TO = 400;
  const HIGH = 20;
  const LOW = -66;
  type Line = [number, number][];
  const hit = $derived(drawing.part('hit') ?? []);
  const shaped = $derived(drawing.part('shaped') ?? []);
  const attack = $derived(Number(stage.params.attack_db ?? 0));
  const sustain = $derived(Number(stage.params.sustain_db ?? 0));

  const x = (ms: number): number => (Math.sqrt(Math.max(ms - FROM, 0) / (TO - FROM)) || 0) * WIDE;
  const y = (level: number): number => {
    const db = 20 * Math.log10(Math.max(level, 1e-5));
    return ((HIGH - Math.min(Math.max(db, LOW), HIGH)) / (HIGH - LOW)) * TALL;
  };
  const draw = (points: Line): string =>
    points.map(([ms, v], i) => `${i ? 'L' : 'M'}${x(ms).toFixed(1)} ${y(v).toFixed(1)}`).join('');
  const between = (more: boolean): string => {
    const tops = hit.map(([ms, v], i): [number, number] => {
      const other = shaped[i]?.[1] ?? v;
      return [ms, more ? Math.max(v, other) : Math.min(v, other)];
    });
    return `${draw(tops)}${draw([...hit].reverse()).replace('M', 'L')}Z`;
  };
  const at = (ms: number): number => shaped.find((p) => p[0] >= ms)?.[1] ?? 1;

  const gesture: Gesture<{ name: string; base: number }> = {
    start(at) {
      const name = grabbed(at);
      return name ? { name, base: Number(stage.params[name] ?? 0) } : undefined;
    },
    move({ name, base }, at, from) {
      const db = base + (from.down - at.down) * (HIGH - LOW);
      onhold(name, Math.min(Math.max(Math.round(db * 10) / 10, -24), 24));
    },
    end: () => ondrop(),
  };
</script>

<Figure>
  <svg
    viewBox="0 0 {WIDE} {TALL}"
    preserveAspectRatio="none"
    role="img"
    aria-label="The level of one hit before and after; drag the squares for attack and sustain"
    {@attach drag(gesture)}
  >
    {#each [0, -20, -40] as db (db)}
      <path class="grid" d="M0 {y(10 ** (db / 20))}H{WIDE}" />
      <text x="3" y={y(10 ** (db / 20)) - 2}>{db ? `−${-db}` : '0'}</text>
    {/each}
    {#each [10, 50, 200] as ms (ms)}
      <path class="grid" d="M{x(ms)} 0V{TALL}" />
      <text x={x(ms) + 2} y={TALL - 3}>{ms}</text>
    {/each}
    <path class="added" d={between(true)} />
    <path class="taken" d={between(false)} />
    <path class="hit" d={draw(hit)} />
    <path class="shaped" d={draw(shaped)} />
    <rect
      class="handle"
      data-grab="attack_db"
      role="presentation"
      x={x(3) - 5}
      y={y(at(3)) - 5}
      width="10"
      height="10"
    />
    <rect
      class="handle"
      data-grab="sustain_db"
      role="presentation"
      x={x(160) - 5}
      y={y(at(160)) - 5}
      width="10"
      height="10"
    />
  </svg>
  {#snippet caption()}
    one hit, ms
    <span>attack {signed(attack)}, sustain {signed(sustain)} dB</span>
  {/snippet}
</Figure>

<style>
  .grid {
    stroke: var(--hair);
    fill: none;
  }
  .hit {
    fill: none;
    stroke: var(--edge);
    stroke-dasharray: 3 3;
  }
  .shaped {
    fill: none;
    stroke: var(--ink);
    stroke-width: 1.8;
  }
  .added {
    fill: var(--slate);
    fill-opacity: 0.45;
  }
  .taken {
    fill: var(--madder);
    fill-opacity: 0.6;
  }
  .handle {
    fill: var(--field);
    stroke: var(--ink);
    stroke-width: 1.5;
    cursor: ns-resize;
  }
</style>
