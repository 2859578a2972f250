<script lang="ts">
  import { standing } from '../../lib/chain';
  import {
    cornersOf,
    laneScale,
    pointAdded,
    pointMoved,
    pointShaped,
    shareOf,
    shown,
    valueOf,
  } from '../../lib/lane';
  import { sectionSpans } from '../../lib/sections';
  import { typeOver } from '../../lib/typing.svelte';
  import type { Live } from '../../lib/live.svelte';
  import type { Lane, Place, Point } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import type { Span } from './span.svelte';
  import LaneHead from './LaneHead.svelte';
  import SectionValues from './SectionValues.svelte';
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

  const TOP = 22;
  const FOOT = 24;
  let draft = $state.raw<Point[] | null>(null);
  let chosen = $state(-1);

  const lane = $derived<Lane | null>(work.laneOf(place.owner, place.control));
  const points = $derived(draft ?? work.pointsOf(place) ?? []);
  const scale = $derived(laneScale(place.control, work.declared(place)));
  const by = $derived(
    lane?.lever
      ? work.model?.levers.find((l) =>
          l.moves.some((m) => m.owner === place.owner && m.control === place.control),
        )
      : null,
  );

  const x = (seconds: number): number => span.share(seconds * work.rate) * width;
  const y = (value: number): number => TOP + (1 - shareOf(scale, value)) * (height - TOP - FOOT);
  const valueAt = (py: number): number => valueOf(scale, 1 - (py - TOP) / (height - TOP - FOOT));
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
    const through = cornersOf(points).map(([at_s, value]) => `L${x(at_s)} ${y(value)}`);
    const last = points[points.length - 1];
    return `M0 ${y(first.value)}${through.join('')}L${width} ${y(last?.value ?? 0)}`;
  });

  /** A point by its number; a press beside all of them makes one. */
  const gesture: Gesture<number> = {
    start(at) {
      if (by) return undefined;
      chosen = points.findIndex((p) => Math.hypot(x(p.at_s) - at.x, y(p.value) - at.y) < 9);
      if (chosen >= 0) draft = [...points];
      else {
        const fresh: Point = { at_s: timeAt(at.x), value: valueAt(at.y), shape: 'straight' };
        [draft, chosen] = pointAdded(points, fresh);
      }
      return chosen;
    },
    move(held, at) {
      const to = { at_s: timeAt(at.x), value: valueAt(at.y) };
      draft = draft && pointMoved(draft, held, to, work.frames / work.rate);
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
    if (chosen >= 0) void store(pointShaped(points, chosen));
  }

  function key(event: KeyboardEvent): void {
    const point = points[chosen];
    if (event.key === 'Tab') return;
    const put = (value: number): void =>
      void store(points.map((p, i) => (i === chosen ? { ...p, value } : p)));
    if (point && typeOver(event, scale.title, scale, put)) return;
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

  const rest = $derived(
    (work.model && standing(work.model, place.owner, place.control)) ?? scale.low,
  );

  /** Where the control stands at a frame. */
  function standsAt(frame: number): number {
    if (!lane) return draft?.[0]?.value ?? rest;
    return lane.values[Math.round((frame / work.frames) * (lane.values.length - 1))] ?? rest;
  }

  /** The sections that can be seen, with what stands in the middle of each. */
  const parts = $derived(
    (work.model ? sectionSpans(work.model, work.frames) : [])
      .map(({ name, begin, end }) => ({
        name,
        left: Math.max(x(begin / work.rate), 0),
        right: x(end / work.rate),
        value: standsAt((begin + end) / 2),
      }))
      .filter(({ left, right }) => right - left > 60 && left < width),
  );

  const setSection = (section: string, value: number): Promise<void> =>
    work.edit({ type: 'set_in_section', ...place, section, value });
</script>

<div class="editor">
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
  <svg
    {width}
    {height}
    tabindex="0"
    role="application"
    aria-label="Automation of {scale.title}: click adds a point, drag moves it; n next point, arrows move, s shape, Delete takes it away"
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
            >{shown(scale, point.value)}{i < points.length - 1 ? `, then ${point.shape}` : ''}</text
          >
        {/if}
      {/if}
    {/each}
  </svg>
  <LaneHead
    title={scale.title}
    lever={by?.name ?? null}
    shape={points[chosen]?.shape ?? null}
    any={points.length > 0}
    writing={work.writing}
    onshape={shape}
    onremove={remove}
    onclear={() => void store([])}
    onwrite={() => (work.writing = !work.writing)}
    onclose={() => (work.lane = null)}
  />
  {#if !by}
    <SectionValues {scale} {parts} {rest} onset={setSection} />
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
  .live {
    position: absolute;
    top: 4px;
    right: 8px;
    font-weight: 600;
  }
</style>
