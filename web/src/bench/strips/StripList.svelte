<script lang="ts">
  import type { Live } from '../../lib/live.svelte';
  import { height } from '../../lib/scale';
  import type { Strip } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';

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

  const MARKS = ['', ...'ABCDEFGHIJKLMNOPQRSTUVWXYZ'];
  /** The strip whose name is being typed. */
  let renaming = $state('');
  let drag: { strip: string; y: number; moved: boolean } | null = null;
  /** The strip above which a dragged one would be put. */
  let target = $state<string | null>(null);

  function press(event: KeyboardEvent, strip: Strip): void {
    const act: Record<string, () => void> = {
      F2: () => (renaming = strip.id),
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

  /** One place up or down among the strips that feed the same bus. */
  function shift(strip: Strip, up: boolean): void {
    const group = groups.find((g) => g.strips.some((s) => s.id === strip.id));
    const rows = group?.strips ?? groups.map((g) => g.bus);
    const at = rows.findIndex((s) => s.id === strip.id);
    const before = up ? rows[at - 1] : rows[at + 2];
    if (at < 0 || (up ? at === 0 : at === rows.length - 1)) return;
    const after = rows[rows.length - 1];
    const all = work.model?.strips ?? [];
    const next = after ? all[all.findIndex((s) => s.id === after.id) + 1] : undefined;
    const to = before?.id ?? next?.id ?? null;
    void work.edit({ type: 'move_strip', strip: strip.id, before: to });
  }

  function rename(strip: Strip, name: string): void {
    if (renaming !== strip.id) return;
    renaming = '';
    const value = name.trim();
    if (value && value !== strip.name)
      void work.edit({ type: 'set_strip', strip: strip.id, field: 'name', value });
  }

  function down(event: PointerEvent, strip: Strip): void {
    if (event.button === 0) drag = { strip: strip.id, y: event.clientY, moved: false };
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

  function click(event: MouseEvent, strip: Strip): void {
    if (event.shiftKey) work.takeStrips(strip.id);
    else work.select(strip.id);
  }

  function toggle(strip: Strip, field: 'mute' | 'solo'): void {
    void work.edit({ type: 'set_strip', strip: strip.id, field, value: !strip[field] });
  }
  /** The same letter has the same tint of one hue; the letter is what tells them apart. */
  function tint(mark: string | null | undefined): string {
    return mark ? `${25 + 9 * ((mark.charCodeAt(0) - 65) % 6)}%` : '0%';
  }
</script>

<svelte:window onpointermove={move} onpointerup={up} />

{#snippet row(strip: Strip)}
  {@const meter = live.meters[strip.id]}
  <div
    class="row"
    class:chosen={strip.id === work.stripId || work.strips.includes(strip.id)}
    class:first={work.strips.length > 0 && strip.id === work.stripId}
    class:quiet={strip.mute}
    class:target={strip.id === target}
    data-strip-row={strip.id}
  >
    {#if renaming === strip.id}
      <input
        class="rename"
        aria-label="Name of the strip"
        value={strip.name}
        {@attach (node: HTMLInputElement) => {
          node.focus();
          node.select();
        }}
        onblur={(e) => rename(strip, e.currentTarget.value)}
        onkeydown={(e) => {
          e.stopPropagation();
          if (e.key === 'Enter') rename(strip, e.currentTarget.value);
          if (e.key === 'Escape') renaming = '';
        }}
      />
    {:else}
      <select
        class="mark"
        class:none={!strip.mark}
        aria-label="Mark of {strip.name}"
        title="A letter of your own"
        style:--tint={tint(strip.mark)}
        value={strip.mark ?? ''}
        onchange={(e) =>
          void work.edit({
            type: 'set_strip',
            strip: strip.id,
            field: 'mark',
            value: e.currentTarget.value || null,
          })}
      >
        {#each MARKS as mark (mark)}<option value={mark}>{mark || '–'}</option>{/each}
      </select>
      <button
        class="name"
        aria-current={strip.id === work.stripId}
        data-strip={strip.id}
        title="{strip.name}: double click or F2 renames, Alt+arrows or a drag moves, D duplicates"
        onclick={(e) => click(e, strip)}
        ondblclick={() => (renaming = strip.id)}
        onkeydown={(e) => press(e, strip)}
        onpointerdown={(e) => down(e, strip)}>{strip.name}</button
      >
    {/if}
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
        ><b style:transform="scaleX({height(Math.max(meter?.left ?? 0, meter?.right ?? 0), true)})"
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
    padding: var(--s2) 0;
    border-right: 1px solid var(--hair);
  }
  .group {
    margin-bottom: var(--s2);
  }
  @media (max-width: 1199px) {
    .list .row {
      grid-template-columns: 16px minmax(0, 1fr) auto 20px;
      gap: 2px;
      padding-right: var(--s1);
    }
    .list .track .name {
      padding-left: 2px;
    }
  }
  .row {
    display: grid;
    grid-template-columns: 18px minmax(0, 1fr) auto 30px;
    align-items: center;
    gap: var(--s1);
    padding-right: var(--s2);
    height: 24px;
  }
  .name {
    padding-left: 2px;
    height: 24px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    color: var(--muted);
    font-size: var(--note);
  }
  .track .name {
    padding-left: var(--s2);
    color: var(--ink);
    font-size: var(--text);
  }
  .row > :global(.bars) {
    grid-column: 4;
  }
  .chosen {
    background: var(--ink);
    color: var(--on-ink);
  }
  .chosen .name {
    color: var(--on-ink);
    font-weight: 600;
  }
  .first {
    border-left: 3px solid var(--ochre);
  }
  .target {
    box-shadow: inset 0 2px var(--ochre);
  }
  .mark {
    appearance: none;
    width: 16px;
    height: 16px;
    margin-left: var(--s1);
    text-align: center;
    text-align-last: center;
    font-size: var(--mark);
    line-height: 14px;
    font-weight: 700;
    cursor: pointer;
    color: var(--ink);
    border: 1px solid var(--edge);
    background: color-mix(in srgb, var(--slate) var(--tint), var(--field));
  }
  .mark.none {
    border-color: transparent;
    background: none;
  }
  .row:not(:hover) .mark.none:not(:focus-visible) {
    opacity: 0;
  }
  .row:hover .mark.none,
  .mark.none:focus-visible {
    border-color: var(--edge);
    color: var(--muted);
  }
  .chosen:hover .mark.none {
    color: var(--on-ink);
  }
  .mark option {
    color: var(--ink);
    background: var(--field);
  }
  .rename {
    grid-column: 1 / 4;
    min-width: 0;
    height: 20px;
    margin-left: var(--s1);
    padding: 0 var(--s1);
    color: var(--ink);
    background: var(--field);
    border: 1px solid var(--key);
  }
  .quiet .name {
    text-decoration: line-through;
  }
  .states {
    display: flex;
    gap: var(--s1);
    font-weight: 700;
    font-size: var(--small);
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
    padding: 0 var(--s3) var(--s2);
    font-weight: 600;
  }
</style>
