<script lang="ts">
  import { untrack } from 'svelte';
  import Figure from './Figure.svelte';
  import { drag, grabbed, type Gesture } from '../../lib/drag';
  import type { PictureProps } from '../../lib/picture';

  let { stage, drawing, rate, onReports, onhold, ondrop }: PictureProps = $props();

  const WIDE = 216;
  const TALL = 152;
  const DEEP = 36;
  const points = $derived(drawing.part('envelope') ?? []);
  let whole = $state(300);
  let hits = $state(0);
  let now = $state(0);
  /** The key's level behind its last hits, in dB, a value a cell. */
  let heard = $state.raw<number[][]>([]);
  let inHand = $state<string | undefined>();

  const params = $derived(stage.params);
  const depth = $derived(Number(params.depth_db ?? 0));
  const attack = $derived(Number(params.attack_ms ?? 0));
  const hold = $derived(Number(params.hold_ms ?? 0));
  const decay = $derived(Number(params.decay_ms ?? 1));
  const x = (ms: number): number => (ms / whole) * WIDE;
  const y = (db: number): number => (-db / DEEP) * TALL;
  const line = $derived(
    points.map(([ms, db], i) => `${i ? 'L' : 'M'}${x(ms).toFixed(1)} ${y(db).toFixed(1)}`).join(''),
  );

  $effect(() =>
    onReports((batch) => {
      for (const { report } of batch) {
        const reported = report.stages[stage.id];
        if (!reported) continue;
        hits += reported.opened;
        if (reported.opened) heard = [...heard.slice(-2), []];
        const last = heard[heard.length - 1];
        if (last && last.length < 400) {
          heard = [...heard.slice(0, -1), [...last, ...reported.level]];
        }
        now = Math.max(0, ...reported.reduction);
      }
    }),
  );

  const cellMs = $derived(64000 / rate);
  const keyLine = (levels: number[]): string =>
    levels
      .map((db, i) => {
        const up = (Math.min(Math.max(db, -60), 0) / -60) * TALL;
        return `${i ? 'L' : 'M'}${x(i * cellMs).toFixed(1)} ${up.toFixed(1)}`;
      })
      .join('');

  // The time axis stands still while a handle is in hand.
  $effect(() => {
    const end = points[points.length - 1]?.[0];
    if (end !== undefined && !inHand) whole = 1.25 * end;
  });

  const gesture: Gesture<string> = {
    start: (at) => (inHand = grabbed(at)),
    move(part, at) {
      const [ms, db] = [at.across * whole, at.down * DEEP];
      if (part === 'bottom') {
        onhold('depth_db', Math.min(Math.max(Math.round(db * 2) / 2, 0), 60));
        onhold('attack_ms', Math.min(Math.max(Math.round(ms * 10) / 10, 0), 50));
      } else {
        const length = Math.round(Math.min(Math.max(ms - attack - hold, 5), 4000));
        onhold('decay_ms', length);
      }
    },
    end() {
      inHand = undefined;
      ondrop();
    },
  };
</script>

<Figure>
  <svg
    viewBox="0 0 {WIDE} {TALL}"
    preserveAspectRatio="none"
    role="img"
    aria-label="What every hit takes away over time, over the level of the key's last hits; drag the bottom for depth and attack, the end for decay"
    {@attach drag(gesture)}
  >
    {#each [6, 12, 24] as db (db)}
      <path class="grid" d="M0 {y(-db)}H{WIDE}" />
      <text x="3" y={y(-db) - 2}>−{db}</text>
    {/each}
    <path class="taken" d="{line}L{x(points[points.length - 1]?.[0] ?? 0)} 0Z" />
    {#each heard as levels, i (i)}
      <path class="key" class:last={i === heard.length - 1} d={keyLine(levels)} />
    {/each}
    <path class="now" d="M0 {y(-now)}H{WIDE}" />
    <rect
      class="handle"
      role="presentation"
      x={x(attack) - 5}
      y={Math.min(y(-depth), TALL) - 5}
      width="10"
      height="10"
      data-grab="bottom"
    />
    <rect
      class="handle"
      role="presentation"
      x={x(attack + hold + decay) - 5}
      y="0"
      width="10"
      height="10"
      data-grab="end"
    />
  </svg>
  {#snippet caption()}
    one hit, {Math.round(attack + hold + decay)} ms
    <span>{hits} {hits === 1 ? 'hit' : 'hits'}</span>
  {/snippet}
</Figure>

<style>
  .grid {
    stroke: var(--hair);
  }
  .taken {
    fill: var(--madder);
    fill-opacity: 0.75;
  }
  .key {
    fill: none;
    stroke: var(--key);
    opacity: 0.35;
  }
  .key.last {
    opacity: 1;
    stroke-width: 1.5;
  }
  .now {
    stroke: var(--ink);
    stroke-dasharray: 2 3;
  }
  .handle {
    fill: var(--field);
    stroke: var(--ink);
    stroke-width: 1.5;
    cursor: move;
  }
</style>
