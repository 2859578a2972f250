<script lang="ts">
  import DragNumber from '../../components/DragNumber.svelte';
  import { standing } from '../../lib/chain';
  import { range } from '../../lib/controls';
  import { figure, panned } from '../../lib/figures';
  import { sectionSpans } from '../../lib/sections';
  import { typeOver } from '../../lib/typing.svelte';
  import type { Live } from '../../lib/live.svelte';
  import type { Lane, Place, Point } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import type { Span } from './span.svelte';
  import { drag, type Gesture } from '../../lib/drag';

  interface Props {
    work: Work;
    live: Live;
    span: Span;
    place: Place;
    width: number;
    height: number;
  }
  let { work, live, span, place, width, height }: Props = $props();

  const SHAPES = ['straight', 'curved', 'stepped'] as const;
  const TOP = 22;
  const FOOT = 24;
  let draft = $state.raw<Point[] | null>(null);
  let chosen = $state(-1);
  let sections = $state<Record<string, number>>({});

  const lane = $derived<Lane | null>(work.laneOf(place.owner, place.control));
  const points = $derived(draft ?? work.pointsOf(place) ?? []);
  const control = $derived(work.declared(place));
  const { low, high, words } = $derived(
    control ? range(control) : { low: 0, high: 1, words: [] as string[] },
  );
  const log = $derived(control?.scale === 'log');
  const unit = $derived(control?.unit ?? '');
  const title = $derived(control?.label ?? place.control);
  const by = $derived(
    lane?.lever
      ? work.model?.levers.find((l) =>
          l.moves.some((m) => m.owner === place.owner && m.control === place.control),
        )
      : null,
  );

  const x = (seconds: number): number => span.share(seconds * work.rate) * width;
  function y(value: number): number {
    const share =
      log && low > 0 ? Math.log(value / low) / Math.log(high / low) : (value - low) / (high - low);
    return TOP + (1 - Math.min(Math.max(share, 0), 1)) * (height - TOP - FOOT);
  }
  function valueAt(py: number): number {
    const share = Math.min(Math.max(1 - (py - TOP) / (height - TOP - FOOT), 0), 1);
    const value = log && low > 0 ? low * (high / low) ** share : low + share * (high - low);
    return words.length ? Math.round(value) : Number(value.toPrecision(4));
  }
  const timeAt = (px: number): number =>
    Math.max(Math.round((span.frame(px / width) / work.rate) * 1000) / 1000, 0);

  /** The way through the points, as the server draws it; straight while one is in hand. */
  const way = $derived.by(() => {
    if (!draft && lane) {
      const last = lane.values.length - 1;
      const seconds = work.frames / work.rate;
      return lane.values
        .map((v, i) => `${i ? 'L' : 'M'}${x((i / last) * seconds)} ${y(v)}`)
        .join('');
    }
    const first = points[0];
    if (!first) return '';
    let path = `M0 ${y(first.value)}`;
    points.forEach((p, i) => {
      const before = points[i - 1];
      if (before?.shape === 'stepped') path += `L${x(p.at_s)} ${y(before.value)}`;
      path += `L${x(p.at_s)} ${y(p.value)}`;
    });
    return `${path}L${width} ${y(points[points.length - 1]?.value ?? 0)}`;
  });

  /** A point by its number; a press beside all of them makes one. */
  const gesture: Gesture<number> = {
    start(at) {
      if (by) return undefined;
      chosen = points.findIndex((p) => Math.hypot(x(p.at_s) - at.x, y(p.value) - at.y) < 9);
      if (chosen >= 0) draft = [...points];
      else {
        const fresh: Point = { at_s: timeAt(at.x), value: valueAt(at.y), shape: 'straight' };
        draft = [...points, fresh].sort((a, b) => a.at_s - b.at_s);
        chosen = draft.indexOf(fresh);
      }
      return chosen;
    },
    move(held, at) {
      const earliest = draft?.[held - 1]?.at_s ?? 0;
      const latest = draft?.[held + 1]?.at_s ?? work.frames / work.rate;
      const at_s = Math.min(Math.max(timeAt(at.x), earliest), latest);
      const value = valueAt(at.y);
      draft = draft?.map((p, i) => (i === held ? { ...p, at_s, value } : p)) ?? null;
    },
    end: () => draft && void store(draft),
  };

  async function store(next: Point[]): Promise<void> {
    draft = next;
    await work.edit({ type: 'set_lane', ...place, points: next });
    draft = null;
  }

  function remove(): void {
    if (chosen < 0) return;
    const next = points.filter((_, i) => i !== chosen);
    chosen = -1;
    void store(next);
  }

  function shape(): void {
    const point = points[chosen];
    if (!point) return;
    const next = SHAPES[(SHAPES.indexOf(point.shape) + 1) % 3] ?? 'straight';
    void store(points.map((p, i) => (i === chosen ? { ...p, shape: next } : p)));
  }

  function key(event: KeyboardEvent): void {
    const point = points[chosen];
    if (event.key === 'Tab') return;
    const put = (value: number): void =>
      void store(points.map((p, i) => (i === chosen ? { ...p, value } : p)));
    if (point && typeOver(event, title, { unit, low, high }, put)) return;
    if (event.key === 'Delete' || event.key === 'Backspace') remove();
    else if (event.key === 's') shape();
    else if (event.key === 'n') chosen = points.length ? (chosen + 1) % points.length : -1;
    else if (point && event.key.startsWith('Arrow')) {
      const up = { ArrowUp: 1, ArrowDown: -1 }[event.key] ?? 0;
      const on = { ArrowRight: 1, ArrowLeft: -1 }[event.key] ?? 0;
      const beat = 15 / (work.model?.bpm ?? 60);
      const value = valueAt(y(point.value) - up * (event.shiftKey ? 1 : 4));
      const at_s = Math.max(point.at_s + on * beat * (event.shiftKey ? 0.25 : 1), 0);
      void store(
        points
          .map((p, i) => (i === chosen ? { ...p, value: up ? value : p.value, at_s } : p))
          .sort((a, b) => a.at_s - b.at_s),
      );
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function shown(value: number): string {
    if (words.length) return words[Math.round(value)] ?? '';
    if (place.control === 'pan') return panned(value);
    if (unit === '' && high <= 1) return `${figure(value * 100, 0)} %`;
    return `${figure(value, Math.abs(value) >= 100 ? 0 : 1)} ${unit}`.trim();
  }

  const parts = $derived(
    (work.model ? sectionSpans(work.model, work.frames) : []).map((s) => ({
      name: s.name,
      begin: s.begin / work.rate,
      end: s.end / work.rate,
    })),
  );

  /** Where the control stands in a section: at its middle. */
  function inSection(begin: number, end: number): number {
    if (!lane) return draft?.[0]?.value ?? rest();
    const share = (begin + end) / 2 / (work.frames / work.rate);
    return lane.values[Math.round(share * (lane.values.length - 1))] ?? rest();
  }

  function rest(): number {
    const { owner, control: name } = place;
    return (work.model && standing(work.model, owner, name)) ?? low;
  }

  async function setSection(name: string): Promise<void> {
    const value = sections[name];
    if (value === undefined) return;
    await work.edit({ type: 'set_in_section', ...place, section: name, value });
    delete sections[name];
  }
</script>

<div class="editor">
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
  <svg
    {width}
    {height}
    tabindex="0"
    role="application"
    aria-label="Automation of {title}: click adds a point, drag moves it; n next point, arrows move, s shape, Delete takes it away"
    {@attach drag(gesture)}
    onkeydown={key}
  >
    <path class="way" d={way} />
    {#each points as point, i (i)}
      {#if x(point.at_s) >= -8 && x(point.at_s) <= width + 8}
        <rect
          class="point"
          class:chosen={i === chosen}
          data-point={i}
          x={x(point.at_s) - 4}
          y={y(point.value) - 4}
          width="8"
          height="8"
        />
        {#if i === chosen}
          <text
            x={Math.min(x(point.at_s) + 8, width - 90)}
            y={Math.max(y(point.value) - 8, TOP + 10)}
            >{shown(point.value)}{i < points.length - 1 ? `, then ${point.shape}` : ''}</text
          >
        {/if}
      {/if}
    {/each}
  </svg>
  <div class="head">
    <b>{title}</b>
    {#if by}<span>moved by the lever {by.name}</span>{/if}
    {#if chosen >= 0}
      <button onclick={shape}>{points[chosen]?.shape}</button>
      <button onclick={remove}>take the point away</button>
    {/if}
    {#if points.length && !by}
      <button onclick={() => void store([])}>take all away</button>
    {/if}
    <button
      class="write"
      class:on={work.writing}
      aria-pressed={work.writing}
      title="Controls that are moved during play leave automation behind"
      onclick={() => (work.writing = !work.writing)}>write</button
    >
    <button onclick={() => (work.lane = null)} aria-label="Close the automation">close</button>
  </div>
  {#if !by}
    {#each parts as part (part.name)}
      {@const left = Math.max(x(part.begin), 0)}
      {#if x(part.end) - left > 60 && left < width}
        <span class="section" style:left="{left + 4}px">
          <DragNumber
            label="{title} in {part.name}"
            value={sections[part.name] ?? inSection(part.begin, part.end)}
            {low}
            {high}
            {unit}
            step={unit === '' && high <= 1 ? 0.01 : 0.1}
            {log}
            reset={rest()}
            text={shown(sections[part.name] ?? inSection(part.begin, part.end))}
            onhold={(v) => (sections[part.name] = v ?? rest())}
            ondrop={() => void setSection(part.name)}
          />
        </span>
      {/if}
    {/each}
  {/if}
  {#if live.transport.playing && work.writing}<span class="live">writing what is moved</span>{/if}
</div>

<style>
  .editor {
    position: absolute;
    inset: 0;
    background: color-mix(in srgb, var(--field) 62%, transparent);
  }
  svg {
    position: absolute;
    inset: 0;
    cursor: crosshair;
    touch-action: none;
  }
  .way {
    fill: none;
    stroke: var(--ink);
    stroke-width: 2;
  }
  .point {
    fill: var(--field);
    stroke: var(--ink);
    stroke-width: 2;
    cursor: move;
  }
  .point.chosen {
    fill: var(--ink);
  }
  text {
    font-size: var(--small);
    font-weight: 600;
    fill: var(--ink);
  }
  .head {
    position: absolute;
    top: 2px;
    left: 44px;
    display: flex;
    gap: var(--s3);
    align-items: baseline;
    padding: 0 6px;
    background: var(--field);
    font-size: var(--note);
  }
  .head button {
    color: var(--slate);
    border-bottom: 1px dotted currentColor;
  }
  .head .write.on {
    background: var(--ink);
    color: var(--on-ink);
    padding: 0 6px;
    text-decoration: none;
  }
  .section {
    position: absolute;
    bottom: 3px;
    padding: 0 var(--s1);
    background: var(--field);
    font-weight: 600;
  }
  .live {
    position: absolute;
    top: 4px;
    right: 8px;
    font-weight: 600;
  }
</style>
