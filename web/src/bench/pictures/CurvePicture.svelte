<script lang="ts">
  import { untrack } from 'svelte';
  import Figure from './Figure.svelte';
  import { drag, grabbed, type Gesture } from '../../lib/drag';
  import type { PictureProps } from '../../lib/picture';

  let { stage, drawing, onReports, onhold, ondrop }: PictureProps = $props();

  const SIZE = 200;
  const FLOOR = -60;
  type Line = [number, number][] | undefined;
  const curve = $derived(drawing.part('curve') ?? []);
  const bare = $derived(drawing.part('bare') ?? []);
  let dot = $state<{ x: number; y: number; from: number } | null>(null);

  const params = $derived(stage.params);
  const threshold = $derived(Number(params.threshold_db ?? -18));
  const ratio = $derived(Number(params.ratio ?? 4));
  /** The ratio is set at the upper end where the curve bends down from the threshold on. */
  const stageDown = $derived(params.max_reduction_db !== undefined);
  const widens = $derived(params.direction !== undefined);
  /** An expander's ratio is set on the steep part of its curve, some way from the threshold. */
  const steep = $derived.by(() => {
    const reach = Number(params.range_db ?? 24) / Math.max(ratio - 1, 0.25);
    const up = params.direction === 'up';
    const away = Math.min(0.8 * reach, 10, up ? -threshold : threshold - FLOOR);
    const x = threshold + (up ? away : -away);
    return { x, y: threshold + (x - threshold) * ratio };
  });

  $effect(() =>
    onReports((batch) => {
      const meter = batch[batch.length - 1]?.report.stages[stage.id];
      if (!meter || meter.level.length === 0) return;
      const level = Math.max(...meter.level);
      const reduction = meter.reduction[meter.level.indexOf(level)] ?? 0;
      dot = level > FLOOR ? { x: px(level), y: py(level - reduction), from: py(level) } : null;
    }),
  );

  const px = (db: number): number => ((db - FLOOR) / -FLOOR) * SIZE;
  const py = (db: number): number => SIZE - ((db - FLOOR) / -FLOOR) * SIZE;

  function path(points: [number, number][]): string {
    return points
      .map(([x, y], i) => `${i ? 'L' : 'M'}${px(x).toFixed(1)} ${py(y).toFixed(1)}`)
      .join('');
  }

  const gone = $derived(
    bare.length
      ? `${path(bare)}${[...bare]
          .reverse()
          .map(([x, y]) => `L${px(x).toFixed(1)} ${py(Math.max(x, y)).toFixed(1)}`)
          .join('')}Z`
      : '',
  );
  const bend = $derived({ x: px(threshold), y: py(threshold) });
  const end = $derived(bare[bare.length - 1]?.[1] ?? 0);

  const gesture: Gesture<string> = {
    start: grabbed,
    move(part, at) {
      const [level, out] = [FLOOR * (1 - at.across), FLOOR * at.down];
      if (part === 'threshold') {
        onhold('threshold_db', Math.round(Math.min(Math.max(level, -60), 0) * 10) / 10);
      } else if (widens) {
        const slope = (out - threshold) / (steep.x - threshold || 1);
        onhold('ratio', Math.round(Math.min(Math.max(slope, 1), 20) * 10) / 10);
      } else if (threshold < -0.5) {
        const slope = Math.min(Math.max((out - threshold) / -threshold, 0.01), 1);
        onhold('ratio', Math.round(Math.min(1 / slope, 100) * 10) / 10);
      }
    },
    end: () => ondrop(),
  };
</script>

<Figure>
  <svg
    viewBox="0 0 {SIZE} {SIZE}"
    preserveAspectRatio="none"
    role="img"
    aria-label="Level in against level out; drag the square for the threshold, the end for the ratio"
    {@attach drag(gesture)}
  >
    <defs>
      <pattern
        id="gone"
        width="5"
        height="5"
        patternUnits="userSpaceOnUse"
        patternTransform="rotate(45)"
      >
        <line x1="0" y1="0" x2="0" y2="5" stroke="var(--madder)" stroke-width="1.4" />
      </pattern>
    </defs>
    {#each [-48, -36, -24, -12] as db (db)}
      <path d="M{px(db)} 0V{SIZE}M0 {py(db)}H{SIZE}" stroke="var(--hair)" />
      <text x="3" y={py(db) - 2}>−{-db}</text>
    {/each}
    <path d="M0 {SIZE}L{SIZE} 0" stroke="var(--edge)" stroke-dasharray="2 3" />
    <path d={gone} class="gone" />
    <path d={path(curve)} class="made-up" />
    <path d={path(bare)} class="curve" />
    {#if dot}
      <path d="M{dot.x} {dot.from}V{dot.y}" stroke="var(--madder)" stroke-width="3" />
      <circle cx={dot.x} cy={dot.y} r="4.5" fill="var(--ink)" />
    {/if}
    <rect
      x={bend.x - 5}
      y={bend.y - 5}
      width="10"
      height="10"
      class="handle"
      role="presentation"
      data-grab="threshold"
    />
    {#if params.ratio !== undefined && (stageDown || widens)}<rect
        x={widens ? px(steep.x) - 5 : SIZE - 9}
        y={py(widens ? Math.max(steep.y, FLOOR + 2) : end) - 5}
        width="10"
        height="10"
        class="handle"
        role="presentation"
        data-grab="ratio"
      />{/if}
  </svg>
  {#snippet caption()}in → out, dB <span>{ratio >= 100 ? '∞' : ratio} : 1</span>{/snippet}
</Figure>

<style>
  path {
    fill: none;
  }
  .curve {
    stroke: var(--ink);
    stroke-width: 2;
  }
  .made-up {
    stroke: var(--muted);
    stroke-dasharray: 5 3;
  }
  .gone {
    fill: url(#gone);
    opacity: 0.7;
  }
  .handle {
    fill: var(--field);
    stroke: var(--ink);
    stroke-width: 1.5;
    cursor: move;
  }
</style>
