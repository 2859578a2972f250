<script lang="ts">
  import { barBeat, clock } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import { barFrames, sectionSpans, snapped, type SectionSpan } from '../../lib/sections';
  import type { Edit } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import type { Span } from './span.svelte';
  import { drag, grabbed, type Gesture, type Spot } from '../../lib/drag';

  interface Props {
    work: Work;
    live: Live;
    span: Span;
  }
  let { work, live, span }: Props = $props();

  type Part = 'name' | 'start' | 'end';
  const PARTS: Part[] = ['name', 'start', 'end'];
  let row: HTMLElement | undefined = $state();
  /** What the keyboard holds: a section's name or one of its edges. */
  let chosen = $state({ index: 0, part: 'name' as Part });
  let draft = $state.raw<{ begin: number; end: number } | null>(null);

  const spans = $derived(work.model ? sectionSpans(work.model, work.frames) : []);
  const bar = $derived(work.model ? barFrames(work.model) : 1);

  function placeOf(frame: number): string {
    const bpm = work.model?.bpm;
    return bpm ? barBeat(frame, work.rate, bpm) : clock(frame, work.rate);
  }

  const frameOf = (at: Spot): number => Math.min(Math.max(span.frame(at.across), 0), work.frames);

  const seconds = (frame: number): number => Number((frame / work.rate).toFixed(6));

  interface Held {
    part: Part | 'new';
    index: number;
    from: number;
    moved: boolean;
  }

  /** What is pressed says which part of which section it is; beside them a new one begins. */
  const gesture: Gesture<Held> = {
    start(at) {
      if (work.namingSection >= 0) return undefined;
      const [part = 'new', number = '-1'] = (grabbed(at) ?? 'new').split(':');
      const index = Number(number);
      if (index >= 0) chosen = { index, part: part as Part };
      return { part: part as Held['part'], index, from: frameOf(at), moved: false };
    },
    move(held, at, begun) {
      const to = snapped(frameOf(at), bar, at.alt);
      const from = snapped(held.from, bar, at.alt);
      const section = spans[held.index];
      if (Math.abs(at.x - begun.x) > 4) held.moved = true;
      if (!held.moved) return;
      if (held.part === 'new') draft = { begin: Math.min(from, to), end: Math.max(from, to) };
      else if (section && held.part === 'start') draft = { begin: to, end: section.end };
      else if (section && held.part === 'end') draft = { begin: section.begin, end: to };
      else if (section) {
        const by = snapped(frameOf(at) - held.from + section.begin, bar, at.alt);
        draft = { begin: by, end: by + section.end - section.begin };
      }
    },
    end(held) {
      const made = draft;
      draft = null;
      void store(held, made);
    },
  };

  async function store(held: Held, made: typeof draft): Promise<void> {
    if (!held.moved || !made || made.end <= made.begin) return;
    const begin_s = seconds(made.begin);
    const end_s = seconds(Math.min(made.end, work.frames));
    if (held.part === 'new') {
      await work.edit({ type: 'add_section', start_s: begin_s, end_s });
      work.namingSection = spans.findIndex((s) => Math.abs(s.begin - made.begin) <= 1);
      return;
    }
    const edit: Edit = { type: 'set_section', section: held.index };
    if (held.part !== 'end') edit.start_s = begin_s;
    if (held.part !== 'start') edit.end_s = end_s;
    void work.edit(edit);
  }

  function rename(index: number, name: string): void {
    const old = spans[index];
    work.namingSection = -1;
    row?.focus();
    if (old && name.trim() && name.trim() !== old.name)
      void work.edit({ type: 'set_section', section: index, name: name.trim() });
  }

  function key(event: KeyboardEvent): void {
    if (event.target !== row) return;
    const section = spans[chosen.index];
    const step = event.shiftKey ? bar / 4 : bar;
    const act: Record<string, () => void> = {
      ArrowDown: () => walk(1),
      ArrowUp: () => walk(-1),
      ArrowLeft: () => section && shift(section, -step),
      ArrowRight: () => section && shift(section, step),
      Enter: () => (work.namingSection = chosen.index),
      F2: () => (work.namingSection = chosen.index),
      Delete: () => section && void work.edit({ type: 'remove_section', section: section.index }),
      l: () => section && live.send({ type: 'loop', begin: section.begin, end: section.end }),
    };
    const found = act[event.key];
    if (!found || (spans.length === 0 && event.key !== 'Enter')) return;
    event.preventDefault();
    event.stopPropagation();
    found();
  }

  function walk(by: number): void {
    const at = chosen.index * 3 + PARTS.indexOf(chosen.part) + by;
    const held = Math.min(Math.max(at, 0), spans.length * 3 - 1);
    chosen = { index: Math.floor(held / 3), part: PARTS[held % 3] ?? 'name' };
  }

  function shift(section: SectionSpan, by: number): void {
    const edit: Edit = { type: 'set_section', section: section.index };
    if (chosen.part !== 'end') edit.start_s = seconds(Math.max(section.begin + by, 0));
    if (chosen.part === 'end' || (chosen.part === 'name' && !section.open))
      edit.end_s = seconds(Math.min(section.end + by, work.frames));
    void work.edit(edit);
  }

  function said(): string {
    const section = spans[chosen.index];
    if (!section) return 'Sections of the song: none yet; I makes one at the playhead';
    const place = { name: '', start: 'start of ', end: 'end of ' }[chosen.part];
    const at = `${placeOf(section.begin)} to ${placeOf(section.end)}`;
    return `${place}${section.name}, section ${chosen.index + 1} of ${spans.length}, ${at}`;
  }
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
<div
  class="row"
  role="group"
  tabindex="0"
  aria-label={said()}
  title="Drag to name a part of the song; drag it or an edge to move it (Alt: free); double click names it"
  bind:this={row}
  {@attach drag(gesture)}
  onkeydown={key}
>
  {#if spans.length === 0 && !draft}
    <span class="hint">drag here to name a part of the song</span>
  {/if}
  {#each spans as section (section.index)}
    {@const left = Math.max(span.share(section.begin), 0)}
    {@const right = Math.min(span.share(section.end), 1)}
    {#if right > 0 && left < 1}
      <div
        class="section"
        class:open={section.open}
        style:left="{100 * left}%"
        style:width="{100 * (right - left)}%"
      >
        <span
          class="edge start"
          role="presentation"
          class:chosen={chosen.index === section.index && chosen.part === 'start'}
          data-grab="start:{section.index}"
        ></span>
        {#if work.namingSection === section.index}
          <input
            aria-label="Name of the section"
            value={section.name}
            {@attach (node: HTMLInputElement) => {
              node.focus();
              node.select();
            }}
            onblur={(e) =>
              work.namingSection === section.index && rename(section.index, e.currentTarget.value)}
            onkeydown={(e) => {
              e.stopPropagation();
              if (e.key === 'Enter') rename(section.index, e.currentTarget.value);
              if (e.key === 'Escape') rename(section.index, section.name);
            }}
          />
        {:else}
          <span
            class="name"
            role="presentation"
            class:chosen={chosen.index === section.index && chosen.part === 'name'}
            title="{section.name}, {placeOf(section.begin)} to {placeOf(section.end)}"
            data-grab="name:{section.index}"
            ondblclick={() => (work.namingSection = section.index)}>{section.name}</span
          >
        {/if}
        <button
          class="away"
          tabindex="-1"
          aria-label="Take the section {section.name} away"
          title="Take {section.name} away"
          onclick={() => void work.edit({ type: 'remove_section', section: section.index })}
          >×</button
        >
        <span
          class="edge end"
          role="presentation"
          class:chosen={chosen.index === section.index && chosen.part === 'end'}
          data-grab="end:{section.index}"
        ></span>
      </div>
    {/if}
  {/each}
  {#if draft}
    <div
      class="draft"
      style:left="{100 * span.share(draft.begin)}%"
      style:width="{100 * (span.share(draft.end) - span.share(draft.begin))}%"
    >
      {placeOf(draft.begin)} – {placeOf(draft.end)}
    </div>
  {/if}
</div>

<style>
  .row {
    position: relative;
    height: 18px;
    overflow: hidden;
    user-select: none;
    touch-action: none;
    cursor: crosshair;
    font-size: var(--note);
    line-height: 18px;
  }
  .row:focus-visible {
    outline-offset: -2px;
  }
  .row:focus-visible .chosen {
    text-decoration: underline;
    background: var(--ochre-soft);
  }
  .hint {
    padding-left: 6px;
    color: var(--muted);
  }
  .section {
    position: absolute;
    top: 0;
    bottom: 0;
    display: flex;
    border-left: 2px solid var(--ink);
    border-right: 1px solid var(--ink);
    background: var(--ground);
    cursor: grab;
  }
  .section.open {
    border-right-color: var(--hair);
  }
  .name {
    flex: 1;
    padding: 0 2px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-weight: 600;
  }
  .away {
    display: none;
    padding: 0 3px;
    color: var(--muted);
  }
  .section:hover .away {
    display: block;
  }
  .edge {
    flex: none;
    width: 5px;
    cursor: ew-resize;
  }
  input {
    flex: 1;
    min-width: 60px;
    height: 18px;
    padding: 0 var(--s1);
    background: var(--field);
    border: 1px solid var(--ochre);
  }
  .draft {
    position: absolute;
    top: 0;
    bottom: 0;
    padding-left: var(--s1);
    overflow: hidden;
    white-space: nowrap;
    color: var(--ochre);
    background: var(--ochre-soft);
    border-left: 2px solid var(--ochre);
    border-right: 2px solid var(--ochre);
  }
</style>
