<script lang="ts">
  import type { StartingPoint } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';

  interface Props {
    work: Work;
  }
  let { work }: Props = $props();

  /** What people begin with, in the order in which they work. */
  const FIRST: [string, string][] = [
    ['gate', 'Clean: open for the hits, close for bleed and noise'],
    ['clipper', 'Tame peaks that stick out, without making the part quieter'],
    ['compressor', 'Control: level, tone, groove'],
    ['transient', 'Shape: more or less attack, more or less tail'],
    ['deesser', 'Sibilance and harshness down'],
    ['tone', 'Filters, shelves, bells'],
    ['saturator', 'Colour: harmonics, even or odd'],
    ['limiter', 'A wall that peaks do not pass'],
  ];
  const strip = $derived(work.strip);

  async function add(kind: string, point: StartingPoint | null): Promise<void> {
    if (!strip) return;
    const params = point?.params ?? {};
    await work.edit({ type: 'add_stage', place: strip.id, index: 0, kind, params });
    const first = work.strip?.chain[0];
    if (first) work.choose(first.id);
  }
</script>

<section class="first" aria-label="Begin with">
  <h2>Nothing stands on {strip?.name} yet. People begin with:</h2>
  <ul>
    {#each FIRST as [kind, words] (kind)}
      <li>
        <button class="kind" onclick={() => void add(kind, null)}
          >{work.kinds[kind]?.title ?? kind}</button
        >
        <p>{words}</p>
        <p class="points">
          {#each (work.catalogue.starting_points[kind] ?? []).slice(0, 3) as point (point.name)}
            <button title={point.note} onclick={() => void add(kind, point)}>{point.name}</button>
          {/each}
        </p>
      </li>
    {/each}
  </ul>
</section>

<style>
  .first {
    padding: var(--s3) var(--s4);
    overflow-y: auto;
  }
  h2 {
    margin-bottom: 10px;
    font-weight: 400;
    color: var(--muted);
  }
  ul {
    margin: 0;
    padding: 0;
    display: grid;
    grid-template-columns: repeat(auto-fill, minmax(220px, 1fr));
    gap: 10px 20px;
    list-style: none;
  }
  .kind {
    font-weight: 600;
    border-bottom: 1px solid var(--ink);
  }
  li p {
    color: var(--slate);
  }
  .points {
    display: flex;
    flex-wrap: wrap;
    gap: 0 var(--s3);
  }
  .points button {
    color: var(--muted);
    border-bottom: 1px dotted var(--edge);
  }
</style>
