<script lang="ts">
  import { barBeat, clock } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import {
    barFrames,
    dragged,
    sectionSpans,
    snapped,
    type Part,
    type SectionSpan,
  } from '../../lib/sections';
  import type { Edit } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import SectionBlock from './SectionBlock.svelte';
  import type { Span } from './span.svelte';
  import { drag, grabbed, type Gesture, type Spot } from '../../lib/drag';

  interface Props {
    work: Work;
    live: Live;
    span: Span;
  }
  let { work, live, span }: Props = $props();

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
      if (Math.abs(at.x - begun.x) > 4) held.moved = true;
      if (!held.moved) return;
      const snap = (frame: number): number => snapped(frame, bar, at.alt);
      draft = dragged(held.part, spans[held.index], held.from, frameOf(at), snap) ?? draft;
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
      <SectionBlock
        {section}
        {left}
        {right}
        place="{placeOf(section.begin)} to {placeOf(section.end)}"
        chosen={chosen.index === section.index ? chosen.part : null}
        naming={work.namingSection === section.index}
        onname={() => (work.namingSection = section.index)}
        onrename={(name) => rename(section.index, name)}
        onaway={() => void work.edit({ type: 'remove_section', section: section.index })}
      />
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
  .hint {
    padding-left: 6px;
    color: var(--muted);
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
