<script lang="ts">
  import { branches } from '../../lib/chain';
  import type { Extent } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import type { Score } from './score.svelte';

  interface Props {
    work: Work;
    score: Score;
    /** A recipe is wanted at a place between two stages. */
    onrecipe: (spot: Extent) => void;
  }
  let { work, score, onrecipe }: Props = $props();

  /** What the menu keeps from the window's edges. */
  const EDGE = 8;
  let menu: HTMLElement | undefined = $state();
  let wide = $state(0);
  let tall = $state(0);
  const SPLITS = [
    ['copies', 2, 'Parallel copies'],
    ['bands', 2, '2 bands'],
    ['bands', 3, '3 bands'],
    ['bands', 4, '4 bands'],
    ['bands', 5, '5 bands'],
    ['mid-side', 2, 'Mid and sides'],
    ['left-right', 2, 'Left and right'],
  ] as const;

  $effect(() => {
    if (score.adding) menu?.querySelector('button')?.focus();
  });

  const mono = $derived(work.strip?.channels === 1);

  function stage(kind: string): void {
    const { place, index } = score.adding!;
    void score.add({ type: 'add_stage', place, index, kind, params: {} });
  }

  function split(by: (typeof SPLITS)[number][0], bands: number): void {
    const { place, index } = score.adding!;
    void score.add({ type: 'add_split', by, place, index, bands, around: [] });
  }

  function recipe(): void {
    const { place, index } = score.adding!;
    const inside = work.strip && branches(work.strip.chain).find((b) => b.id === place);
    const chain = inside?.chain ?? work.strip?.chain ?? [];
    const [after, before] = [chain[index - 1]?.id ?? null, chain[index]?.id ?? null];
    onrecipe({ kind: 'stretch', owner: place, after, before });
    score.adding = null;
  }

  function key(event: KeyboardEvent): void {
    const all = [...(menu?.querySelectorAll<HTMLButtonElement>('button:enabled') ?? [])];
    const at = all.indexOf(document.activeElement as HTMLButtonElement);
    const by = { ArrowDown: 1, ArrowRight: 1, ArrowUp: -1, ArrowLeft: -1 }[event.key];
    if (by) all[(at + by + all.length) % all.length]?.focus();
    else if (event.key === 'Escape') score.adding = null;
    else if (event.key !== 'Enter' && event.key !== ' ') return;
    if (event.key !== 'Enter' && event.key !== ' ') event.preventDefault();
    event.stopPropagation();
  }
</script>

{#if score.adding}
  <div
    class="menu"
    role="menu"
    tabindex="-1"
    aria-label="Add"
    bind:this={menu}
    bind:offsetWidth={wide}
    bind:offsetHeight={tall}
    style:left="{Math.max(Math.min(score.adding.x, innerWidth - wide - EDGE), EDGE)}px"
    style:top="{Math.max(Math.min(score.adding.y, innerHeight - tall - EDGE), EDGE)}px"
    onkeydown={key}
  >
    <div>
      {#each Object.values(work.kinds) as kind (kind.kind)}
        <button role="menuitem" title={kind.doc} onclick={() => stage(kind.kind)}
          >{kind.title}</button
        >
      {/each}
    </div>
    <div>
      {#each SPLITS as [by, count, words] (words)}
        {@const one = mono && (by === 'mid-side' || by === 'left-right')}
        <button
          role="menuitem"
          disabled={one}
          title={one ? 'This strip has one channel' : undefined}
          onclick={() => split(by, count)}>{words}</button
        >
      {/each}
    </div>
    <div>
      <button role="menuitem" onclick={recipe}>Recipe…</button>
      <button role="menuitem" class="none" onclick={() => (score.adding = null)}>Nothing</button>
    </div>
  </div>
{/if}

<style>
  .menu {
    position: fixed;
    z-index: 9;
    display: flex;
    align-items: start;
    max-height: calc(100vh - 16px);
    overflow-y: auto;
    background: var(--field);
    border: 1px solid var(--ink);
    box-shadow: 3px 3px 0 var(--hair);
  }
  .menu > div {
    display: grid;
    padding: var(--s1) 0;
  }
  .menu > div + div {
    border-left: 1px solid var(--hair);
  }
  button {
    padding: 3px 14px;
    white-space: nowrap;
  }
  button:hover,
  button:focus-visible {
    background: var(--ink);
    color: var(--on-ink);
    outline: none;
  }
  .none {
    color: var(--muted);
  }
</style>
