<script lang="ts">
  import type { Live } from '../../lib/live.svelte';
  import { grouped, shifted } from '../../lib/strips';
  import type { Strip } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import StripItem from './StripItem.svelte';

  interface Props {
    work: Work;
    live: Live;
  }
  let { work, live }: Props = $props();

  const groups = $derived(grouped(work.model?.strips ?? []));
  const soloed = $derived(work.model?.strips.some((s) => s.solo) ?? false);
  let drag: { strip: string; y: number; moved: boolean } | null = null;
  /** The strip above which a dragged one would be put. */
  let target = $state<string | null>(null);

  function press(event: KeyboardEvent, strip: Strip): void {
    const act: Record<string, () => void> = {
      d: () => void work.edit({ type: 'duplicate_strip', strip: strip.id }),
      Delete: () => void work.edit({ type: 'remove_strip', strip: strip.id }),
    };
    if (event.altKey && event.key.startsWith('Arrow')) shift(strip, event.key === 'ArrowUp');
    else if (event.shiftKey && event.key === 'ArrowUp') work.takeStrip(-1);
    else if (event.shiftKey && event.key === 'ArrowDown') work.takeStrip(1);
    else if (act[event.key] && !event.ctrlKey && !event.metaKey) act[event.key]?.();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function shift(strip: Strip, up: boolean): void {
    const before = shifted(work.model?.strips ?? [], strip, up);
    if (before !== undefined) void work.edit({ type: 'move_strip', strip: strip.id, before });
  }

  function move(event: PointerEvent): void {
    if (!drag) return;
    if (Math.abs(event.clientY - drag.y) > 6) drag.moved = true;
    if (!drag.moved) return;
    const over = document
      .elementFromPoint(event.clientX, event.clientY)
      ?.closest<HTMLElement>('[data-strip-row]');
    target = over?.dataset.stripRow ?? null;
  }

  function up(): void {
    const held = drag;
    drag = null;
    if (held?.moved && target && target !== held.strip)
      void work.edit({ type: 'move_strip', strip: held.strip, before: target });
    target = null;
  }
</script>

<svelte:window onpointermove={move} onpointerup={up} />

{#snippet row(strip: Strip, below: boolean)}
  <StripItem
    {strip}
    {below}
    meter={live.meters[strip.id]}
    current={strip.id === work.stripId}
    chosen={strip.id === work.stripId || work.strips.includes(strip.id)}
    first={work.strips.length > 0 && strip.id === work.stripId}
    target={strip.id === target}
    onclick={(e) => (e.shiftKey ? work.takeStrips(strip.id) : work.select(strip.id))}
    onkeydown={(e) => press(e, strip)}
    onpointerdown={(e) => {
      if (e.button === 0) drag = { strip: strip.id, y: e.clientY, moved: false };
    }}
    onset={(field, value) => work.edit({ type: 'set_strip', strip: strip.id, field, value })}
  />
{/snippet}

<nav class="list" aria-label="Strips">
  {#if soloed}<p class="note">Solo is on</p>{/if}
  {#each groups as group (group.bus.id)}
    <div class="group">
      {@render row(group.bus, false)}
      {#each group.strips as strip (strip.id)}{@render row(strip, true)}{/each}
    </div>
  {/each}
</nav>

<style>
  .list {
    overflow-y: auto;
    padding: var(--s2) 0;
    border-right: 1px solid var(--hair);
  }
  .group {
    margin-bottom: var(--s2);
  }
  .note {
    padding: 0 var(--s3) var(--s2);
    font-weight: 600;
  }
</style>
