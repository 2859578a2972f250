<script lang="ts">
  import { height } from '../../lib/scale';
  import { standing } from '../../lib/standing';
  import { MARKS, tint } from '../../lib/strips';
  import type { Meter } from '../../lib/live.svelte';
  import type { Strip } from '../../lib/types';

  interface Props {
    strip: Strip;
    meter: Meter | undefined;
    /** It is the one that is looked at. */
    current: boolean;
    chosen: boolean;
    /** Of several that are chosen, the one that the others follow. */
    first: boolean;
    /** What is dragged would be put above it. */
    target: boolean;
    /** It stands below its bus. */
    below: boolean;
    onclick: (event: MouseEvent) => void;
    onkeydown: (event: KeyboardEvent) => void;
    onpointerdown: (event: PointerEvent) => void;
    onset: (
      field: 'name' | 'mark' | 'mute' | 'solo',
      value: string | boolean | null,
    ) => Promise<void>;
  }
  let {
    strip,
    meter,
    current,
    chosen,
    first,
    target,
    below,
    onclick,
    onkeydown,
    onpointerdown,
    onset,
  }: Props = $props();

  let renaming = $state(false);

  function rename(name: string): void {
    if (!renaming) return;
    renaming = false;
    const value = name.trim();
    if (value && value !== strip.name) void onset('name', value);
  }

  function press(event: KeyboardEvent): void {
    if (event.key !== 'F2') return onkeydown(event);
    renaming = true;
    event.preventDefault();
    event.stopPropagation();
  }
</script>

<div
  class="row"
  class:chosen
  class:first
  class:below
  class:target
  class:quiet={strip.mute}
  data-strip-row={strip.id}
>
  {#if renaming}
    <input
      class="rename"
      aria-label="Name of the strip"
      maxlength="80"
      value={strip.name}
      {@attach (node: HTMLInputElement) => {
        node.focus();
        node.select();
      }}
      onblur={(e) => rename(e.currentTarget.value)}
      onkeydown={(e) => {
        e.stopPropagation();
        if (e.key === 'Enter') rename(e.currentTarget.value);
        if (e.key === 'Escape') renaming = false;
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
      {@attach standing(
        () => strip.mark ?? '',
        (value) => onset('mark', value || null),
      )}
    >
      {#each MARKS as mark (mark)}<option value={mark}>{mark || '–'}</option>{/each}
    </select>
    <button
      class="name"
      aria-current={current}
      data-strip={strip.id}
      title="{strip.name}: double click or F2 renames, Alt+arrows or a drag moves, D duplicates"
      {onclick}
      ondblclick={() => (renaming = true)}
      onkeydown={press}
      {onpointerdown}>{strip.name}</button
    >
  {/if}
  {#if strip.solo || strip.mute}
    <span class="states">
      {#if strip.solo}<button onclick={() => onset('solo', false)} title="Soloed (S)">S</button
        >{/if}
      {#if strip.mute}<button onclick={() => onset('mute', false)} title="Muted (M)">M</button>{/if}
    </span>
  {/if}
  <span class="bars" aria-hidden="true">
    <i class="level"
      ><b style:transform="scaleX({height(Math.max(meter?.left ?? 0, meter?.right ?? 0), true)})"
      ></b></i
    >
    <i class="reduction" style:transform="scaleX({Math.min(1, (meter?.reduction ?? 0) / 24)})"></i>
  </span>
</div>

<style>
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
  .below .name {
    padding-left: var(--s2);
    color: var(--ink);
    font-size: var(--text);
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
    grid-column: 4;
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
  @media (max-width: 1199px) {
    .row {
      grid-template-columns: 16px minmax(0, 1fr) auto 20px;
      gap: 2px;
      padding-right: var(--s1);
    }
    .below .name {
      padding-left: 2px;
    }
  }
</style>
