<script lang="ts">
  import { untrack } from 'svelte';
  import { colour } from '../../lib/theme';
  import Figure from './Figure.svelte';
  import type { PictureProps } from '../../lib/picture';

  let { stage, frames, fresh, onReports, known }: PictureProps = $props();

  const ROWS = ['attack', 'sustain'] as const;
  const FLOOR = -72;
  let width = $state(190);
  let height = $state(152);
  let canvas: HTMLCanvasElement | undefined = $state();
  let past: { level: number; attack: number; sustain: number }[] = [];
  let of = '';
  /** What is drawn is the whole song, not what was heard last. */
  let whole = $state(false);

  $effect(() =>
    onReports((batch) => {
      if (of !== stage.id || whole) {
        of = stage.id;
        whole = false;
        past = [];
      }
      for (const { report } of batch) {
        const reported = report.stages[stage.id];
        reported?.attack.forEach((share, i) => {
          if (i % 2) return;
          past.push({
            level: Math.max(reported.level[i] ?? FLOOR, reported.level[i + 1] ?? FLOOR),
            attack: Math.max(share, reported.attack[i + 1] ?? 0),
            sustain: Math.max(reported.sustain[i] ?? 0, reported.sustain[i + 1] ?? 0),
          });
        });
      }
      past = past.slice(-Math.floor(width));
      paint();
    }),
  );

  $effect(() => {
    void [stage.id, fresh, width];
    untrack(() => void before());
  });

  /** Another stage or view has come meanwhile; there is no stage to ask then. */
  let gone = false;
  $effect(() => () => {
    gone = true;
  });

  /** Before anything is heard, what the analysis knows: the whole song at once. */
  async function before(): Promise<void> {
    const { id } = stage;
    if (frames === 0 || (of === id && !whole)) return;
    const names = ['level_db', 'attack_share', 'sustain_share'];
    const found = await known.reports(names, Math.floor(width));
    const [level = [], attack = [], sustain = []] = names.map((name) => found?.[name] ?? []);
    if (!level.length || gone || stage.id !== id || (of === id && !whole)) return;
    whole = true;
    of = id;
    past = level.map((db, i) => ({ level: db, attack: attack[i] ?? 0, sustain: sustain[i] ?? 0 }));
    paint();
  }

  /** The level, and what each part adds upwards from its line, or takes away downwards. */
  function paint(): void {
    const context = canvas?.getContext('2d');
    const params = stage.params;
    if (!context || !params) return;
    context.clearRect(0, 0, width, height);
    const third = height / 3;
    const left = width - past.length;
    past.forEach((cell, i) => {
      const tall = (1 - Math.max(cell.level, FLOOR) / FLOOR) * (third - 4);
      context.fillStyle = colour('before');
      context.fillRect(left + i, third - tall, 1, tall);
      ROWS.forEach((row, r) => {
        const db = Number(params[`${row}_db`]) * cell[row];
        const size = (Math.abs(db) / 24) * (third / 2 - 2);
        const line = third * (r + 1.5);
        context.fillStyle = colour(db > 0 ? 'slate' : 'madder');
        context.fillRect(left + i, db > 0 ? line - size : line, 1, size);
      });
    });
    context.strokeStyle = colour('hair');
    context.beginPath();
    for (const line of [third, 1.5 * third, 2 * third, 2.5 * third]) {
      context.moveTo(0, line);
      context.lineTo(width, line);
    }
    context.stroke();
  }
</script>

<Figure>
  <div bind:clientWidth={width} bind:clientHeight={height} class="field">
    <canvas
      bind:this={canvas}
      {width}
      {height}
      aria-label="Level, and what attack and sustain add or take away, as it plays"
    ></canvas>
    {#each ['level', ...ROWS] as words, i (words)}
      <span style:top="{(i * height) / 3 + 1}px">{words}</span>
    {/each}
  </div>
  {#snippet caption()}{whole ? 'whole song; ' : ''}up: added, down: taken away{/snippet}
</Figure>

<style>
  .field {
    position: relative;
    background: var(--field);
    border: 1px solid var(--hair);
    overflow: hidden;
  }
  canvas {
    position: absolute;
    inset: 0;
  }
  span {
    position: absolute;
    left: 4px;
    font-size: var(--mark);
    line-height: 12px;
    color: var(--muted);
    background: var(--field);
    pointer-events: none;
  }
</style>
