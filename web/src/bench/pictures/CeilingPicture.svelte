<script lang="ts">
  import { untrack } from 'svelte';
  import { figure } from '../../lib/figures';
  import { colour } from '../../lib/theme';
  import Figure from './Figure.svelte';
  import { drag, type Gesture } from '../../lib/drag';
  import type { PictureProps } from '../../lib/picture';

  let { stage, frames, fresh, onReports, onhold, ondrop, known }: PictureProps = $props();

  const TOP = 18;
  const FLOOR = -30;
  let width = $state(410);
  let height = $state(152);
  let canvas: HTMLCanvasElement | undefined = $state();
  let past: { level: number; taken: number }[] = [];
  let most = $state(0);
  let highest = $state(-300);
  let of = '';
  /** What is drawn is the whole song, not what was heard last. */
  let whole = $state(false);

  const ceiling = $derived(Number(stage.params.ceiling_db ?? -1));
  const y = (db: number): number =>
    ((TOP - Math.min(Math.max(db, FLOOR), TOP)) / (TOP - FLOOR)) * height;

  $effect(() =>
    onReports((batch) => {
      if (of !== stage.id || whole) {
        of = stage.id;
        whole = false;
        past = [];
        most = 0;
        highest = -300;
      }
      for (const { report } of batch) {
        const reported = report.stages[stage.id];
        if (!reported?.level.length) continue;
        const level = Math.max(...reported.level);
        const taken = Math.max(0, ...reported.reduction);
        past.push({ level, taken });
        most = Math.max(most, taken);
        highest = Math.max(highest, level);
      }
      past = past.slice(-Math.floor(width / 2));
      paint();
    }),
  );
  $effect(() => {
    void [ceiling, width, height];
    paint();
  });
  $effect(() => {
    void [stage.id, fresh];
    untrack(() => void before());
  });

  /** Another stage or view has come meanwhile; there is no stage to ask then. */
  let gone = false;
  $effect(() => () => {
    gone = true;
  });

  /** Before anything is heard, what the analysis knows: the whole song at once. */
  async function before(): Promise<void> {
    const id = stage.id;
    if (frames === 0 || (of === id && !whole)) return;
    const found = await known.picture(Math.floor(width / 2));
    if (!found || gone || stage.id !== id || (of === id && !whole) || !found.level.length) return;
    whole = true;
    of = id;
    past = [...found.level].map((level, i) => ({ level, taken: found.reduction[i] ?? 0 }));
    most = Math.max(0, ...past.map((p) => p.taken));
    highest = Math.max(-300, ...past.map((p) => p.level));
    paint();
  }

  /** Peaks that come in, full above the ceiling; the reduction hangs from the top. */
  function paint(): void {
    const context = canvas?.getContext('2d');
    if (!context) return;
    context.clearRect(0, 0, width, height);
    const left = width - past.length * 2;
    const wall = y(ceiling);
    past.forEach(({ level, taken }, i) => {
      const x = left + i * 2;
      const top = y(level);
      context.fillStyle = colour('before');
      context.fillRect(x, Math.max(top, wall), 2, height - Math.max(top, wall));
      if (top < wall) {
        context.fillStyle = colour('slate');
        context.fillRect(x, top, 2, wall - top);
      }
      context.fillStyle = colour('madder');
      context.fillRect(x, 0, 1.4, (taken / (TOP - FLOOR)) * height);
    });
    context.strokeStyle = colour('ink');
    context.lineWidth = 2;
    context.beginPath();
    context.moveTo(0, wall);
    context.lineTo(width, wall);
    context.stroke();
  }

  const gesture: Gesture<true> = {
    start: (at) => (Math.abs(at.y - y(ceiling)) <= 9 ? true : undefined),
    move(_, at) {
      const db = TOP - (at.y / height) * (TOP - FLOOR);
      onhold('ceiling_db', Math.min(Math.max(Math.round(db * 10) / 10, -24), 0));
    },
    end: () => ondrop(),
  };
</script>

<Figure>
  <div bind:clientWidth={width} bind:clientHeight={height} class="field">
    <canvas
      bind:this={canvas}
      {width}
      {height}
      aria-label="Peaks that come in, behind the drive; what is over the ceiling; the reduction from above"
      {@attach drag(gesture)}
    ></canvas>
    <span class="line" style:top="{y(ceiling) + 3}px">ceiling {figure(ceiling, 1)} dB</span>
    <span class="taken">reduction</span>
  </div>
  {#snippet caption()}
    <span data-highest={highest}
      >peaks behind the drive{highest > -60 ? `, highest ${figure(highest, 1)} dB` : ''}</span
    >
    <span class="most">{figure(-most, 1)} dB at most</span>
  {/snippet}
</Figure>

<style>
  .field {
    position: relative;
    background: var(--field);
    border: 1px solid var(--hair);
    overflow: hidden;
    height: 152px;
  }
  canvas {
    position: absolute;
    inset: 0;
    touch-action: none;
    cursor: ns-resize;
  }
  .line,
  .taken {
    position: absolute;
    left: 6px;
    font-size: var(--mark);
    line-height: 13px;
    padding: 0 3px;
    background: var(--field);
    pointer-events: none;
  }
  .taken {
    top: 2px;
    color: var(--madder);
  }
  .most {
    color: var(--madder);
  }
</style>
