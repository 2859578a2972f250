<script lang="ts">
  import { typeOver } from '../../lib/typing.svelte';
  import { untrack } from 'svelte';
  import { figure } from '../../lib/figures';
  import { added, dragged, type LevelPoint, nearest } from '../../lib/points';
  import LaneButton from '../../components/LaneButton.svelte';
  import Figure from './Figure.svelte';
  import { drag, spotIn, type Gesture, type Spot } from '../../lib/drag';
  import type { PictureProps } from '../../lib/picture';

  let { stage, kind, drawing, moves, onReports, onlane, onhold, onset, ondrop }: PictureProps =
    $props();

  const SIZE = 200;
  const LOW = -90;
  const HIGH = 6;
  const line = $derived(drawing.part('bare') ?? []);
  const control = $derived(kind.controls.find((c) => c.type === 'points'));
  const points = $derived((stage.params.points as LevelPoint[] | undefined) ?? []);
  let chosen = $state(0);
  let dot = $state<{ x: number; y: number; from: number } | null>(null);

  const px = (db: number): number => ((db - LOW) / (HIGH - LOW)) * SIZE;
  const py = (db: number): number => SIZE - px(db);
  const path = $derived(
    line.map(([x, y], i) => `${i ? 'L' : 'M'}${px(x).toFixed(1)} ${py(y).toFixed(1)}`).join(''),
  );
  const now = $derived(points[Math.min(chosen, points.length - 1)]);

  $effect(() =>
    onReports((batch) => {
      const meter = batch[batch.length - 1]?.report.stages[stage.id];
      if (!meter?.level.length) return;
      const level = Math.max(...meter.level);
      const at = meter.level.indexOf(level);
      const out = level - (meter.reduction[at] ?? 0) + (meter.boost[at] ?? 0);
      dot = level > LOW ? { x: px(level), y: py(out), from: py(level) } : null;
    }),
  );

  function at({ across, down }: Spot): LevelPoint {
    const span = HIGH - LOW;
    const [x, y] = [LOW + across * span, LOW + (1 - down) * span];
    return [Math.round(x * 10) / 10, Math.round(y * 10) / 10];
  }

  const gesture: Gesture<true> = {
    start(spot) {
      const found = nearest(points, at(spot), 5);
      if (found === null) return undefined;
      chosen = found;
      return true;
    },
    move: (_, spot) => onhold('points', dragged(points, chosen, at(spot), control)),
    end: () => ondrop(),
  };

  function add(event: MouseEvent & { currentTarget: Element }): void {
    const where = at(spotIn(event.currentTarget, event));
    if (nearest(points, where, 5) !== null) remove();
    else if (points.length < (control?.most ?? 16)) {
      const next = added(points, where);
      chosen = next.findIndex((p) => p[0] === where[0]);
      void onset('points', next);
    }
  }

  function remove(): void {
    if (points.length <= (control?.fewest ?? 2)) return;
    const next = points.filter((_, i) => i !== chosen);
    chosen = Math.max(chosen - 1, 0);
    void onset('points', next);
  }

  function press(event: KeyboardEvent, index: number): void {
    chosen = index;
    const by = event.shiftKey ? 0.1 : 1;
    const [x, y] = points[index] ?? [0, 0];
    const put = (level: number): void =>
      void onset('points', dragged(points, index, [x, level], control));
    const range = { unit: 'dB', low: control?.low ?? -90, high: control?.high ?? 0 };
    if (typeOver(event, `Point ${index + 1}, out`, range, put)) return;
    const to: Record<string, LevelPoint> = {
      ArrowUp: [x, y + by],
      ArrowDown: [x, y - by],
      ArrowLeft: [x - by, y],
      ArrowRight: [x + by, y],
    };
    const target = to[event.key];
    if (target) void onset('points', dragged(points, index, target, control));
    else if (event.key === 'Delete') remove();
    else if (event.key === 'Insert') {
      const next = points[index + 1] ?? [x + 10, y + 10];
      void onset('points', added(points, [(x + next[0]) / 2, (y + next[1]) / 2]));
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }
</script>

<Figure>
  <svg
    viewBox="0 0 {SIZE} {SIZE}"
    preserveAspectRatio="none"
    role="group"
    aria-label="Level in against level out; drag the points, double-click to add one or take it away"
    {@attach drag(gesture)}
    ondblclick={add}
  >
    {#each [-72, -48, -24, 0] as db (db)}
      <path d="M{px(db)} 0V{SIZE}M0 {py(db)}H{SIZE}" stroke="var(--hair)" />
      <text x="3" y={py(db) - 2}>{db ? `−${-db}` : '0'}</text>
    {/each}
    <path d="M0 {SIZE}L{SIZE} 0" stroke="var(--edge)" stroke-dasharray="2 3" />
    <path d="{path}L{SIZE} 0L0 {SIZE}Z" class="changed" />
    <path d={path} class="curve" />
    {#if dot}
      <path d="M{dot.x} {dot.from}V{dot.y}" stroke="var(--madder)" stroke-width="3" />
      <circle cx={dot.x} cy={dot.y} r="4.5" fill="var(--ink)" />
    {/if}
    {#each points as [x, y], i (i)}
      <rect
        x={px(x) - 4.5}
        y={py(Math.min(Math.max(y, LOW + 2), HIGH - 2)) - 4.5}
        width="9"
        height="9"
        class="handle"
        class:chosen={i === chosen}
        role="slider"
        tabindex="0"
        aria-label="Point {i + 1}"
        aria-valuenow={y}
        aria-valuetext="{figure(x, 1)} dB in, {figure(y, 1)} dB out"
        onfocus={() => (chosen = i)}
        onkeydown={(e) => press(e, i)}
      />
    {/each}
  </svg>
  {#snippet caption()}
    {points.length} points
    {#if now}
      <span
        >{#each ['in', 'out'] as side, i (side)}{@const place = `points.${chosen}.${side}`}{i
            ? ' → '
            : ''}{figure(now[i] ?? 0, 1)}<LaneButton
            label="Point {chosen + 1} {side}"
            moves={moves(place)}
            onclick={() => onlane(place)}
          />{/each} dB</span
      >
    {/if}
  {/snippet}
</Figure>

<style>
  path {
    fill: none;
  }
  .curve {
    stroke: var(--ink);
    stroke-width: 2;
  }
  .changed {
    fill: var(--madder);
    fill-opacity: 0.14;
  }
  .handle {
    fill: var(--field);
    stroke: var(--ink);
    stroke-width: 1.5;
    cursor: move;
  }
  .handle.chosen {
    fill: var(--ochre);
  }
</style>
