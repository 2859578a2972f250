<script lang="ts">
  import { figure } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import { FLOOR_DB, height, toDb } from '../../lib/scale';
  import type { Work } from '../../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
  }
  let { work, live }: Props = $props();

  const HOLD_MS = 1500;
  const FALL = 1.2;
  let bars = $state({ in: 0, out: 0, red: 0 });
  let held = $state({ in: 0, out: 0, red: 0 });
  const since = { in: 0, out: 0, red: 0 };
  const names = ['in', 'out', 'red'] as const;
  // Another place begins with empty bars, never those of the strip before; a blind test has none.
  $effect(() => {
    void [work.stripId, work.at, live.covered];
    bars = { in: 0, out: 0, red: 0 };
    held = { in: 0, out: 0, red: 0 };
  });
  const LABELS = { in: 'in', out: 'out', red: 'taken' } as const;

  $effect(() =>
    live.onReports((batch) => {
      let most = { in: 0, out: 0, red: 0 };
      for (const { report } of batch) {
        const red = Math.max(0, ...report.taken);
        most = {
          in: Math.max(most.in, peak(report.before)),
          out: Math.max(most.out, peak(report.after)),
          red: Math.max(most.red, red),
        };
      }
      for (const name of names) show(name, most[name]);
    }),
  );

  function peak(cells: [number, number][]): number {
    return cells.reduce((most, [low, high]) => Math.max(most, -low, high), 0);
  }

  function show(name: 'in' | 'out' | 'red', value: number): void {
    const old = bars[name];
    const falling = name === 'red' ? Math.max(value, old - FALL) : Math.max(value, old * 0.87);
    bars = { ...bars, [name]: falling };
    const time = performance.now();
    if (value >= held[name] || time - since[name] > HOLD_MS) {
      held = { ...held, [name]: value };
      since[name] = time;
    }
  }

  function size(name: 'in' | 'out' | 'red', value: number): number {
    return name === 'red' ? Math.min(value / -FLOOR_DB, 1) : height(value, true);
  }

  function text(name: 'in' | 'out' | 'red'): string {
    const value = held[name];
    if (name === 'red') return value > 0.05 ? figure(-value, 1) : '0';
    return value > 0.001 ? figure(toDb(value), 1) : '–';
  }
</script>

<div class="meters" aria-label="Levels">
  {#each names as name (name)}
    <div class="one">
      <div class="scale" class:red={name === 'red'}>
        <i class="bar" style:transform="scaleY({size(name, bars[name])})"></i>
        <i class="hold" style:bottom="{100 * size(name, held[name])}%"></i>
      </div>
      <span>{text(name)}</span>
      <span class="name">{LABELS[name]}</span>
    </div>
  {/each}
</div>

<style>
  .meters {
    display: grid;
    grid-template-columns: repeat(3, 1fr);
    gap: 2px;
    padding: var(--s2) var(--s1) var(--s1);
    border-left: 1px solid var(--hair);
    background: var(--ground);
  }
  .one {
    display: grid;
    grid-template-rows: 1fr 14px 14px;
    justify-items: center;
    font-size: var(--mark);
    line-height: 14px;
    overflow: hidden;
  }
  .scale {
    position: relative;
    width: 11px;
    height: 100%;
    background: var(--hair);
  }
  .bar {
    position: absolute;
    left: 0;
    right: 0;
    top: 0;
    bottom: 0;
    transform-origin: bottom;
    background: var(--slate);
  }
  .red .bar {
    background: repeating-linear-gradient(135deg, var(--madder) 0 2px, var(--madder-soft) 2px 4px);
  }
  .hold {
    position: absolute;
    left: -2px;
    right: -2px;
    height: 2px;
    background: var(--ink);
  }
  .name {
    color: var(--muted);
  }
</style>
