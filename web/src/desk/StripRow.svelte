<script lang="ts">
  import MovingNumber from '../components/MovingNumber.svelte';
  import MovingSlider from '../components/MovingSlider.svelte';
  import { panned } from '../lib/figures';
  import type { Live } from '../lib/live.svelte';
  import { standing } from '../lib/standing';
  import { hanging } from '../lib/strips';
  import type { Strip } from '../lib/types';
  import type { Work } from '../lib/work.svelte';
  import BranchLines from './BranchLines.svelte';
  import RowMeter from './RowMeter.svelte';
  import SendList from './SendList.svelte';

  interface Props {
    work: Work;
    live: Live;
    strip: Strip;
    onopen: () => void;
    onrename: () => void;
  }
  let { work, live, strip, onopen, onrename }: Props = $props();

  let open = $state(false);
  const meter = $derived(live.meters[strip.id]);
  const strips = $derived(work.model?.strips ?? []);
  const buses = $derived(strips.filter((s) => s.kind !== 'track' && s.id !== strip.id));
  const main = $derived(strips.find((s) => s.kind === 'main'));
  const output = $derived(strip.output ?? main?.id ?? '');
  const parts = $derived(strip.chain.some((e) => e.kind === 'split'));

  /** Whether a bus comes back to this strip: the two would feed each other. */
  const comesBack = (bus: Strip): boolean => hanging(strips, bus.id).has(strip.id);
  const toggle = (field: 'mute' | 'solo'): void =>
    void work.edit({ type: 'set_strip', strip: strip.id, field, value: !strip[field] });
  /** Shows this strip's automation where it is edited: over its time strip. */
  function show(): void {
    work.select(strip.id);
    onopen();
  }
</script>

<div class="row" class:chosen={work.stripId === strip.id} data-row={strip.id}>
  <span class="name">
    {#if parts}
      <button
        class="fold"
        aria-expanded={open}
        aria-label="Branches of {strip.name}"
        onclick={() => (open = !open)}>{open ? '−' : '+'}</button
      >
    {/if}
    <button
      class="title"
      title="Double click or F2 renames it; 2 opens it on Bench"
      onclick={() => work.select(strip.id)}
      ondblclick={onrename}
      onkeydown={(e) => {
        if (e.key !== 'F2') return;
        e.preventDefault();
        work.select(strip.id);
        onrename();
      }}>{strip.name}</button
    >
  </span>
  <span class="states">
    {#each [['mute', 'M'], ['solo', 'S']] as const as [field, sign] (field)}
      <button
        class:on={strip[field]}
        aria-pressed={strip[field]}
        aria-label="{field === 'mute' ? 'Mute' : 'Solo'} {strip.name}"
        onclick={() => toggle(field)}>{sign}</button
      >
    {/each}
  </span>
  <span class="fader">
    <MovingSlider
      of={work.movable(strip.id, 'fader_db')}
      value={strip.fader_db}
      onhold={(v) => work.holdStrip(strip.id, 'fader_db', v)}
      onlane={show}
    />
  </span>
  <RowMeter {meter} />
  <span class="pan">
    <MovingNumber
      of={work.movable(strip.id, 'pan')}
      label="Pan of {strip.name}"
      value={strip.pan}
      words={panned}
      onhold={(v) => work.holdStrip(strip.id, 'pan', v)}
      onlane={show}
    />
  </span>
  <span class="out">
    {#if strip.kind !== 'main'}
      <select
        aria-label="Output of {strip.name}"
        value={output}
        {@attach standing(
          () => output,
          (value) => work.edit({ type: 'set_strip', strip: strip.id, field: 'output', value }),
        )}
      >
        {#each buses as bus (bus.id)}
          <option value={bus.id} disabled={comesBack(bus)}>{bus.name}</option>
        {/each}
      </select>
    {/if}
  </span>
  <SendList {work} {strip} onlane={show} />
</div>
{#if open}<BranchLines {work} {live} chain={strip.chain} onopen={show} />{/if}

<style>
  .row {
    display: grid;
    grid-template-columns: 132px 42px 262px 100px 66px 116px minmax(0, 1fr);
    align-items: center;
    gap: 0 14px;
    min-height: 37px;
    padding: 0 var(--s3);
    border-bottom: 1px solid var(--hair);
  }
  .chosen {
    background: var(--field);
  }
  .name {
    display: flex;
    gap: var(--s1);
    min-width: 0;
  }
  .title {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .chosen .title {
    font-weight: 700;
  }
  .fold {
    width: 15px;
    border: 1px solid var(--edge);
    line-height: 14px;
    text-align: center;
    height: 16px;
  }
  .states {
    display: flex;
  }
  .states button {
    width: 20px;
    line-height: 18px;
    text-align: center;
    border: 1px solid var(--edge);
    font-size: var(--small);
  }
  .states .on {
    background: var(--ink);
    color: var(--on-ink);
    font-weight: 700;
  }
  .fader :global(.rule) {
    grid-template-columns: minmax(0, 1fr) 96px;
    grid-template-rows: 14px 9px;
    align-items: center;
    gap: 0 var(--s4);
  }
  .fader :global(.head) {
    grid-area: 1 / 2 / 3 / 3;
    flex-direction: row-reverse;
    justify-content: space-between;
  }
  .fader :global(.head .name) {
    font-size: 0;
  }
  .fader :global(.head .lane) {
    font-size: var(--text);
  }
  .fader :global(.track) {
    grid-area: 1 / 1;
    height: 14px;
  }
  .fader :global(.marks) {
    grid-area: 2 / 1;
    font-size: var(--tiny);
    line-height: 9px;
  }
  select {
    max-width: 116px;
    background: var(--field);
    border: 1px solid var(--hair);
    font-size: var(--note);
  }
</style>
