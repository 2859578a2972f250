<script lang="ts">
  import type { Live } from '../lib/live.svelte';
  import { height } from '../lib/scale';
  import type { Strip } from '../lib/types';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
  }
  let { work, live }: Props = $props();

  interface Group {
    bus: Strip;
    strips: Strip[];
  }
  const groups = $derived(grouped());
  const soloed = $derived(work.model?.strips.some((s) => s.solo) ?? false);

  function grouped(): Group[] {
    const strips = work.model?.strips ?? [];
    const main = strips.find((s) => s.kind === 'main');
    const buses = strips.filter((s) => s.kind === 'bus');
    const found = buses.map((bus) => ({
      bus,
      strips: strips.filter((s) => s.kind === 'track' && s.output === bus.id),
    }));
    if (main) {
      const straight = strips.filter(
        (s) => s.kind === 'track' && (s.output === null || s.output === main.id),
      );
      found.push({ bus: main, strips: straight });
    }
    return found;
  }

  function toggle(strip: Strip, field: 'mute' | 'solo'): void {
    void work.edit({ type: 'set_strip', strip: strip.id, field, value: !strip[field] });
  }
</script>

{#snippet row(strip: Strip)}
  {@const meter = live.meters[strip.id]}
  <div class="row" class:chosen={strip.id === work.stripId} class:quiet={strip.mute}>
    <button
      class="name"
      aria-current={strip.id === work.stripId}
      data-strip={strip.id}
      onclick={() => work.select(strip.id)}>{strip.name}</button
    >
    {#if strip.solo || strip.mute}
      <span class="states">
        {#if strip.solo}<button onclick={() => toggle(strip, 'solo')} title="Soloed (S)">S</button
          >{/if}
        {#if strip.mute}<button onclick={() => toggle(strip, 'mute')} title="Muted (M)">M</button
          >{/if}
      </span>
    {/if}
    <span class="bars" aria-hidden="true">
      <i class="level"
        ><b style:width="{100 * height(Math.max(meter?.left ?? 0, meter?.right ?? 0), true)}%"
        ></b></i
      >
      <i class="reduction" style:transform="scaleX({Math.min(1, (meter?.reduction ?? 0) / 24)})"
      ></i>
    </span>
  </div>
{/snippet}

<nav class="list" aria-label="Strips">
  {#if soloed}<p class="note">Solo is on</p>{/if}
  {#each groups as group (group.bus.id)}
    <div class="group">
      {@render row(group.bus)}
      {#each group.strips as strip (strip.id)}
        <div class="track">{@render row(strip)}</div>
      {/each}
    </div>
  {/each}
</nav>

<style>
  .list {
    overflow-y: auto;
    padding: 8px 0;
    border-right: 1px solid var(--hair);
  }
  .group {
    margin-bottom: 8px;
  }
  .row {
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto 44px;
    align-items: center;
    gap: 4px;
    padding-right: 8px;
    height: 24px;
  }
  .name {
    padding-left: 12px;
    height: 24px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    color: var(--muted);
    font-size: 12px;
  }
  .track .name {
    padding-left: 20px;
    color: var(--ink);
    font-size: 13px;
  }
  .row > :global(.bars) {
    grid-column: 3;
  }
  .chosen {
    background: var(--ink);
    color: var(--on-ink);
  }
  .chosen .name {
    color: var(--on-ink);
    font-weight: 600;
  }
  .quiet .name {
    text-decoration: line-through;
  }
  .states {
    display: flex;
    gap: 4px;
    font-weight: 700;
    font-size: 11px;
  }
  .bars {
    display: grid;
    gap: 2px;
  }
  .level {
    display: block;
    height: 4px;
    background: var(--hair);
  }
  .level b {
    display: block;
    height: 100%;
    transform-origin: left;
    background: var(--slate);
  }
  .chosen .level {
    background: var(--slate);
  }
  .chosen .level b {
    background: var(--on-ink);
  }
  .reduction {
    display: block;
    height: 3px;
    transform-origin: left;
    background: var(--madder);
  }
  .note {
    padding: 0 12px 8px;
    font-weight: 600;
  }
</style>
