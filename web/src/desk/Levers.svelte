<script lang="ts">
  import MovingSlider from '../components/MovingSlider.svelte';
  import { leverChoices } from '../lib/levers';
  import type { Lever, Move } from '../lib/types';
  import type { Work } from '../lib/work.svelte';
  import LeverMoves from './LeverMoves.svelte';

  interface Props {
    work: Work;
    onopen: () => void;
  }
  let { work, onopen }: Props = $props();

  let open = $state('');
  const levers = $derived(work.model?.levers ?? []);
  const choices = $derived(
    leverChoices(work.model?.strips ?? [], {
      kinds: work.kinds,
      crossover: work.catalogue.controls['split']?.['crossovers_hz'],
      title: (element) => work.titleOf(element),
    }),
  );

  const taken = $derived(
    new Set([
      ...levers.flatMap((l) => l.moves.map((m) => `${m.owner} ${m.control}`)),
      ...(work.model?.automation ?? []).map((a) => `${a.owner} ${a.control}`),
    ]),
  );

  function set(lever: Lever, moves: Move[]): Promise<void> {
    return work.edit({ type: 'set_lever', lever: lever.id, moves });
  }
</script>

<section class="levers" aria-label="Levers">
  <div class="head">
    <h2>Levers</h2>
    <button
      onclick={() => void work.edit({ type: 'add_lever', name: `Lever ${levers.length + 1}` })}
      >add a lever</button
    >
    <a href="#surface" target="_blank">control surface</a>
  </div>
  <div class="list">
    {#each levers as lever (lever.id)}
      <div class="lever">
        <MovingSlider
          of={work.movable(lever.id, 'value')}
          label={lever.name}
          value={lever.value}
          onhold={(v) => work.holdLever(lever.id, v)}
          onlane={onopen}
        />
        <button
          class="more"
          aria-expanded={open === lever.id}
          onclick={() => (open = open === lever.id ? '' : lever.id)}
          >moves {lever.moves.length} control{lever.moves.length === 1 ? '' : 's'}</button
        >
      </div>
    {/each}
    {#if levers.length === 0}<p>
        One control that moves several, each over a range of its own.
      </p>{/if}
  </div>
  {#each levers.filter((l) => l.id === open) as lever (lever.id)}
    <LeverMoves
      {lever}
      {choices}
      {taken}
      onname={(name) => work.edit({ type: 'set_lever', lever: lever.id, name })}
      onmoves={(moves) => set(lever, moves)}
      onaway={() => void work.edit({ type: 'remove_lever', lever: lever.id })}
    />
  {/each}
</section>

<style>
  .levers {
    padding: var(--s2) var(--s3) 10px;
    border-top: 1px solid var(--ink);
    max-height: 260px;
    overflow-y: auto;
  }
  .head {
    display: flex;
    gap: var(--s4);
    align-items: baseline;
  }
  h2 {
    font-size: var(--text);
  }
  .head button,
  a,
  .more {
    color: var(--slate);
    font-size: var(--note);
    border-bottom: 1px dotted currentColor;
  }
  .list {
    display: grid;
    grid-template-columns: repeat(auto-fill, 190px);
    gap: var(--s1) var(--s5);
  }
  p {
    grid-column: 1 / -1;
    color: var(--muted);
  }
</style>
