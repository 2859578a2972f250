<script lang="ts">
  import type { Live } from '../../lib/live.svelte';
  import type { Work } from '../../lib/work.svelte';
  import HitMarks from './HitMarks.svelte';
  import LaneEditor from './LaneEditor.svelte';
  import LevelLine from './LevelLine.svelte';
  import LevelScale from './LevelScale.svelte';
  import Ruler from './Ruler.svelte';
  import Waves from './Waves.svelte';
  import SideMeters from '../ledger/SideMeters.svelte';
  import { height, toGain } from '../../lib/scale';
  import type { Span } from './span.svelte';
  import type { Marking } from '../../lib/marking.svelte';

  interface Props {
    work: Work;
    live: Live;
    span: Span;
    theme: string;
    /** Hits that are marked for the selected gate. */
    marking?: Marking | null;
  }
  let { work, live, span, theme, marking = null }: Props = $props();
  const FOOT = 44;
  let width = $state(600);
  let tall = $state(200);
  let most = $state(12);

  const head = $derived(span.share(live.frame));

  /** Where the flag of the level line stands, which has the margin to itself. */
  const flag = $derived.by(() => {
    const name = work.lane || work.at === 'chain' ? undefined : work.kind?.level_line;
    if (!work.stage || !name) return null;
    const { params } = work.stage;
    const db = Number(params[name]) - Number(params[work.kind?.level_behind ?? ''] ?? 0);
    return ((tall - FOOT) / 2) * (1 - height(toGain(db), span.decibels, span.floor));
  });

  const line = $derived(work.kind?.controls.find((c) => c.name === work.kind?.level_line));
</script>

<section class="strip" aria-label="Time strip">
  <div class="time">
    <Ruler {work} {live} {span} {width} />
    <div class="margin" aria-hidden="true" bind:clientHeight={tall}>
      <LevelScale
        {span}
        body={tall - FOOT}
        foot={FOOT}
        {most}
        {flag}
        covered={work.lane !== null}
      />
    </div>
    <div class="field" bind:clientWidth={width}>
      {#if live.transport.loop}
        <div
          class="loop"
          style:left="{100 * span.share(live.transport.loop[0])}%"
          style:width="{100 *
            (span.share(live.transport.loop[1]) - span.share(live.transport.loop[0]))}%"
        ></div>
      {/if}
      <Waves {work} {live} {span} {theme} {width} height={tall} foot={FOOT} bind:most />
      {#if work.frames === 0}
        <p class="empty">No sound yet. Drop files here or on the list of strips.</p>
      {/if}
      {#if line && work.stage && work.at !== 'chain' && !work.lane}
        <LevelLine
          control={line}
          value={Number(work.stage?.params[line.name] ?? 0)}
          ahead={Number(work.stage?.params[work.kind?.level_behind ?? ''] ?? 0)}
          {span}
          height={tall - FOOT}
          onhold={(v) => work.hold(line.name, v)}
          ondrop={() => void work.drop()}
        />
      {/if}
      {#if work.lane}
        <LaneEditor {work} {live} {span} place={work.lane} {width} height={tall} />
      {/if}
      {#if marking}
        <HitMarks {marking} {span} rate={work.rate} frames={work.frames} {width} />
      {/if}
      {#if head >= 0 && head <= 1}
        <div class="head" style:transform="translateX({head * width}px)"></div>
      {/if}
      <span class="said" style:bottom="{FOOT - 15}px">taken</span>
      <button
        class="axis"
        title="Level axis: decibels or linear"
        onclick={() => (span.decibels = !span.decibels)}
        >{span.decibels ? 'dB' : 'linear'} axis</button
      >
    </div>
  </div>
  <SideMeters {work} {live} />
</section>

<style>
  .strip {
    display: grid;
    grid-template-columns: 1fr 92px;
    min-height: 0;
    background: var(--field);
    border-bottom: 1px solid var(--hair);
  }
  .time {
    display: grid;
    grid-template: 33px 1fr / 44px minmax(0, 1fr);
    min-width: 0;
    min-height: 0;
  }
  .field {
    position: relative;
    min-width: 0;
    min-height: 0;
  }
  .margin {
    position: relative;
    min-height: 0;
    overflow: hidden;
    font-size: var(--mark);
    line-height: 12px;
    color: var(--muted);
    border-right: 1px solid var(--hair);
  }
  .head {
    position: absolute;
    top: 0;
    bottom: 0;
    left: -1px;
    width: 2px;
    background: var(--ochre);
    pointer-events: none;
  }
  .loop {
    position: absolute;
    top: 0;
    bottom: 0;
    border-left: 1px solid var(--ochre);
    border-right: 1px solid var(--ochre);
    background: var(--ochre-soft);
    pointer-events: none;
  }
  .said {
    position: absolute;
    left: 4px;
    padding: 0 var(--s1);
    font-size: var(--small);
    line-height: 14px;
    color: var(--madder);
    background: var(--field);
    pointer-events: none;
  }
  .axis {
    position: absolute;
    right: 8px;
    bottom: 48px;
    padding: 0 var(--s1);
    font-size: var(--small);
    line-height: 14px;
    color: var(--muted);
    background: var(--field);
  }
  .empty {
    position: absolute;
    inset: 40% 0 auto;
    text-align: center;
    color: var(--muted);
    pointer-events: none;
  }
</style>
