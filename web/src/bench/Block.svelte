<script lang="ts">
  import Tick from '../components/Tick.svelte';
  import { figure } from '../lib/figures';
  import type { Live } from '../lib/live.svelte';
  import { colour } from '../lib/theme';
  import type { Stage } from '../lib/types';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    stage: Stage;
    onchoose: () => void;
    onmove: (by: number) => void;
    onlift: (event: PointerEvent) => void;
  }
  let { work, live, stage, onchoose, onmove, onlift }: Props = $props();

  const WIDE = 60;
  const TALL = 18;
  let canvas: HTMLCanvasElement | undefined = $state();
  let past: number[] = new Array<number>(WIDE).fill(0);
  let now = $state(0);
  const title = $derived(work.kinds[stage.kind]?.title ?? stage.kind);
  const keyed = $derived(stage.key.low_hz !== null || stage.key.high_hz !== null);

  $effect(() =>
    live.onTold((batch) => {
      for (const { report } of batch) {
        now = Math.max(0, ...(report.stages[stage.id]?.reduction ?? []));
        past = [...past.slice(1), now];
      }
      paint();
    }),
  );

  function paint(): void {
    const context = canvas?.getContext('2d');
    if (!context) return;
    context.clearRect(0, 0, WIDE, TALL);
    context.fillStyle = colour('madder');
    past.forEach((db, i) => {
      const size = Math.min(db / 18, 1) * TALL;
      context.fillRect(i, 0, 1, size);
    });
  }

  function key(event: KeyboardEvent): void {
    if (event.altKey && event.key === 'ArrowLeft') onmove(-1);
    else if (event.altKey && event.key === 'ArrowRight') onmove(1);
    else if (event.key === 'Delete') void work.edit({ type: 'remove_stage', stage: stage.id });
    else if (event.key === 'Enter') onchoose();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function gain(): string {
    const value = stage.params.gain_db;
    return typeof value === 'number' ? `${figure(value, 1)} dB` : '';
  }
</script>

<div class="wrap" role="listitem">
  {#if keyed}<span class="key">key: own, filtered</span>{/if}
  <div
    class="block"
    class:chosen={stage.id === work.stageId}
    class:off={!stage.on}
    role="button"
    tabindex="0"
    aria-pressed={stage.id === work.stageId}
    aria-label="{title}{stage.on ? '' : ', off'}"
    title="Alt and arrows move it, Delete takes it away"
    data-stage={stage.id}
    onclick={onchoose}
    onkeydown={key}
    onpointerdown={(e) => {
      if (e.button === 0) onlift(e);
    }}
  >
    <span class="top">
      <Tick
        on={stage.on}
        label="{title} on"
        onswitch={(on) => void work.edit({ type: 'set_stage', stage: stage.id, on })}
        ><b>{title}</b></Tick
      >
    </span>
    <span class="foot">
      {#if stage.params.gain_db !== undefined}
        <span>{gain()}</span>
      {:else}
        <span class="now">{stage.on ? figure(-now, 1) : 'off'}</span>
        <canvas bind:this={canvas} width={WIDE} height={TALL} aria-hidden="true"></canvas>
      {/if}
    </span>
  </div>
</div>

<style>
  .wrap {
    position: relative;
    flex: none;
  }
  .key {
    position: absolute;
    bottom: 100%;
    left: 0;
    font-size: 11px;
    line-height: 14px;
    color: var(--key);
    white-space: nowrap;
  }
  .block {
    width: 124px;
    padding: 5px 8px 4px;
    background: var(--field);
    border: 1px solid var(--edge);
    cursor: pointer;
    touch-action: none;
    user-select: none;
  }
  .chosen {
    outline: 2px solid var(--ink);
    outline-offset: -1px;
  }
  .off {
    border-style: dashed;
    color: var(--muted);
  }
  .foot {
    display: flex;
    justify-content: space-between;
    align-items: end;
    height: 19px;
  }
  .now {
    color: var(--madder);
    font-weight: 600;
  }
</style>
