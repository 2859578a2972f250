<script lang="ts">
  import Checkbox from '../../components/Checkbox.svelte';
  import { keyWords } from '../../lib/chain';
  import { figure } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import type { Stage } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import type { Score } from './score.svelte';
  import Shape from './Shape.svelte';

  interface Props {
    work: Work;
    live: Live;
    score: Score;
    stage: Stage;
    small: boolean;
  }
  let { work, live, score, stage, small }: Props = $props();

  const wide = $derived(small ? 34 : 60);
  const tall = $derived(small ? 14 : 18);
  /** What was taken lately, dB, the newest last. */
  let past: number[] = $state.raw(new Array<number>(60).fill(0));
  const bars = $derived(
    past
      .slice(-wide)
      .map((db, i) => (db > 0 ? `M${i} 0h1v${(Math.min(db / 18, 1) * tall).toFixed(1)}h-1z` : ''))
      .join(''),
  );
  let now = $state(0);
  /** What bends or widens takes no gain away, and tells nothing. */
  let tells = $state(false);
  const title = $derived(work.kinds[stage.kind]?.title ?? stage.kind);
  const glyph = $derived(work.kinds[stage.kind]?.glyph ?? 'reduction');
  const key = $derived(keyWords(stage, work.model?.strips ?? []));
  const chosen = $derived(stage.id === work.stageId || work.chosen.includes(stage.id));
  const gain = $derived(stage.params.gain_db);
  const level = $derived(typeof gain === 'number' ? `${figure(gain, 1)} dB` : '');

  $effect(() =>
    live.onReports((batch) => {
      for (const { report } of batch) {
        const reported = report.stages[stage.id]?.reduction ?? [];
        if (reported.length) tells = true;
        now = Math.max(0, ...reported);
        past = [...past.slice(1), now];
      }
    }),
  );

  $effect(() => {
    if (live.covered) past = new Array<number>(60).fill(0);
  });

  function press(event: KeyboardEvent): void {
    if (event.altKey && event.key.startsWith('Arrow')) score.step(stage.id, event.key);
    else if (event.key === 'Delete') void work.edit({ type: 'remove_stage', stage: stage.id });
    else if (event.key === 'Enter' && event.shiftKey) together();
    else if (event.key === 'Enter') work.choose(stage.id);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  /** Takes this stage to the selected one, to be blended or split together. */
  function together(): void {
    const all = new Set([...work.chosen, work.stageId]);
    if (all.has(stage.id)) all.delete(stage.id);
    else all.add(stage.id);
    work.chosen = [...all];
  }
</script>

<div class="wrap" class:small data-stage={stage.id}>
  {#if key && !small}<span class="key">key: {key}</span>{/if}
  <button
    class="block"
    class:chosen
    class:off={!stage.on}
    data-focus
    aria-pressed={chosen}
    aria-label={[title, level, !stage.on && 'off', key && `key ${key}`].filter(Boolean).join(' ')}
    title="Alt and arrows move it, Delete takes it away, Shift and click takes more together"
    onclick={(e) => (e.shiftKey ? together() : work.choose(stage.id))}
    onkeydown={press}
    onpointerdown={(e) => {
      if (e.button === 0) score.lift(stage.id, e);
    }}
  >
    <span class="top">
      <b>{title}</b>
      {#if key && small}<span class="inner" title="key: {key}" aria-hidden="true">key</span>{/if}
    </span>
    <span class="foot">
      {#if level}
        <span>{level}</span>
      {:else}
        <span class="now" aria-hidden="true"
          >{stage.on && tells && !live.covered ? figure(-now, 1) : ''}</span
        >
        {#if !stage.on}<span>off</span>{/if}
        <span class="tiny">
          {#if glyph !== 'reduction'}<Shape {work} {stage} {glyph} {wide} {tall} />{/if}
          <svg class="past" width={wide} height={tall} aria-hidden="true"><path d={bars} /></svg>
        </span>
      {/if}
    </span>
  </button>
  <span class="switch">
    <Checkbox
      on={stage.on}
      label="{title} on"
      onswitch={(on) => void work.edit({ type: 'set_stage', stage: stage.id, on })}
      ><span></span></Checkbox
    >
  </span>
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
    font-size: var(--small);
    line-height: 14px;
    color: var(--key);
    white-space: nowrap;
  }
  .block {
    display: block;
    width: var(--block, 124px);
    padding: 5px var(--block-side, var(--s2)) var(--s1);
    text-align: left;
    background: var(--field);
    border: 1px solid var(--edge);
    touch-action: none;
    user-select: none;
  }
  .top {
    display: block;
    padding-left: 25px;
    overflow: hidden;
    white-space: nowrap;
  }
  .switch {
    position: absolute;
    top: 7px;
    left: calc(var(--block-side, var(--s2)) + 1px);
  }
  .small .block {
    display: flex;
    gap: 6px;
    align-items: center;
    width: auto;
    height: 26px;
    padding: 0 6px;
    font-size: var(--note);
  }
  .small .top {
    padding-left: 19px;
  }
  .small .switch {
    top: 6px;
    left: 7px;
  }
  .chosen {
    outline: 2px solid var(--ink);
    outline-offset: -1px;
  }
  .off {
    border-style: dashed;
    color: var(--muted);
  }
  .inner {
    margin-left: var(--s1);
    color: var(--key);
    font-size: var(--small);
  }
  .foot {
    display: flex;
    justify-content: space-between;
    align-items: end;
    gap: var(--s1);
    height: 19px;
  }
  .small .foot {
    align-items: center;
    height: 16px;
  }
  .tiny {
    position: relative;
    display: flex;
  }
  .past {
    position: relative;
    fill: var(--madder);
  }
  .now {
    min-width: 30px;
    color: var(--madder);
    font-weight: 600;
  }
</style>
