<script lang="ts">
  import { branches, elements, stages } from '../lib/chain';
  import type { Element, Strip } from '../lib/types';

  interface Props {
    strips: Strip[];
    titleOf: (element: Element) => string;
    onselect: (strip: string, stage: string) => void;
  }
  let { strips, titleOf, onselect }: Props = $props();

  const ROW = 22;
  const arcs = $derived(listening(strips));

  interface Arc {
    from: number;
    to: number;
    words: string;
    stage: string;
    strip: string;
  }

  /** Who listens to whom, from the strip that is heard to the one that listens. */
  function listening(all: Strip[]): Arc[] {
    const where = new Map<string, number>();
    all.forEach((strip, i) => {
      where.set(`strip:${strip.id}`, i);
      for (const e of elements(strip.chain)) where.set(`stage:${e.id}`, i);
      for (const b of branches(strip.chain)) where.set(`branch:${b.id}`, i);
    });
    return all.flatMap((strip, to) =>
      stages(strip.chain).flatMap((stage) => {
        const from = where.get(stage.key.source ?? 'own');
        if (from === undefined) return [];
        const title = titleOf(stage).toLowerCase();
        const words = `${all[from]?.name} keys the ${title} of ${strip.name}`;
        return [{ from, to, words, stage: stage.id, strip: strip.id }];
      }),
    );
  }

  function bow(arc: Arc, index: number): string {
    const a = arc.from * ROW + ROW / 2;
    const b = arc.to * ROW + ROW / 2;
    const out = 126 + Math.min(18 + Math.abs(a - b) / 4 + (index % 3) * 8, 84);
    return `M124 ${a}C${out} ${a} ${out} ${b} 128 ${b}`;
  }
</script>

<section aria-label="Listening map">
  <h2>Who listens to whom</h2>
  <svg width="220" height={strips.length * ROW + 4}>
    <defs>
      <marker
        id="tip"
        viewBox="0 0 8 8"
        refX="7"
        refY="4"
        markerWidth="7"
        markerHeight="7"
        orient="auto-start-reverse"
      >
        <path class="tip" d="M0 0L8 4L0 8Z" />
      </marker>
    </defs>
    {#each strips as strip, i (strip.id)}
      <text
        class:key={arcs.some((a) => a.from === i || a.to === i)}
        x="118"
        y={i * ROW + ROW / 2 + 4}
        text-anchor="end"
        >{strip.name.length > 17 ? `${strip.name.slice(0, 16)}…` : strip.name}</text
      >
    {/each}
    {#each arcs as arc, i (arc.stage)}
      <path class="arc" d={bow(arc, i)} marker-end="url(#tip)"><title>{arc.words}</title></path>
    {/each}
  </svg>
  <ul>
    {#each arcs as arc (arc.stage)}
      <li><button onclick={() => onselect(arc.strip, arc.stage)}>{arc.words}</button></li>
    {/each}
    {#if arcs.length === 0}<li class="none">Every stage listens to its own input.</li>{/if}
  </ul>
</section>

<style>
  section {
    padding: var(--s3);
    border-left: 1px solid var(--hair);
  }
  @media (max-width: 1100px) {
    section {
      border-left: none;
    }
  }
  h2 {
    font-size: var(--text);
    margin-bottom: 6px;
  }
  text {
    font-size: var(--note);
    fill: var(--muted);
    stroke: none;
  }
  .key {
    fill: var(--ink);
  }
  .arc {
    fill: none;
    stroke: var(--key);
    stroke-width: 1.5;
  }
  .tip {
    fill: var(--key);
  }
  ul {
    list-style: none;
    padding: 0;
    margin: 10px 0 0;
    font-size: var(--note);
    color: var(--key);
  }
  li {
    padding: 2px 0;
  }
  .none {
    color: var(--muted);
  }
</style>
