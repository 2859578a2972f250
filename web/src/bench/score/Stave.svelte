<script lang="ts">
  import { isSplit } from '../../lib/chain';
  import type { Live } from '../../lib/live.svelte';
  import type { Element } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import Block from './Block.svelte';
  import Bracket from './Bracket.svelte';
  import Gap from './Gap.svelte';
  import type { Score } from './score.svelte';

  interface Props {
    work: Work;
    live: Live;
    score: Score;
    place: string;
    name: string;
    chain: Element[];
    small?: boolean;
  }
  let { work, live, score, place, name, chain, small = false }: Props = $props();
  const tried = $derived(score.triedOn(place, chain));
</script>

{#snippet ghost()}
  <span class="tried" class:small title="Tried, not kept">{score.tried?.name}</span>
{/snippet}

<div class="stave" role="group" aria-label="Stave of {name}" data-stave={place}>
  <i class="wire"></i>
  {#each chain as element, index (element.id)}
    <Gap {score} {place} {index} {small} words="Add on {name} before {element.kind}" />
    {#if tried?.index === index}{@render ghost()}{/if}
    <div class:going={tried && index >= tried.index && index < tried.index + tried.gone}>
      {#if isSplit(element)}
        <Bracket {work} {live} {score} split={element} {small} />
      {:else}
        <Block {work} {live} {score} stage={element} {small} />
      {/if}
    </div>
  {/each}
  {#if tried && tried.index >= chain.length}{@render ghost()}{/if}
  <Gap {score} {place} index={chain.length} {small} words="Add at the end of {name}" />
</div>

<style>
  .stave {
    position: relative;
    display: flex;
    align-items: center;
    flex: 1 0 auto;
    min-width: 0;
  }
  .tried {
    position: relative;
    flex: none;
    max-width: 150px;
    margin-right: var(--s2);
    padding: 14px var(--s2);
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-weight: 600;
    background: var(--ochre-soft);
    border: 2px solid var(--ochre);
    border-width: 0 2px;
  }
  .tried.small {
    padding: 2px var(--s2);
    font-size: var(--note);
  }
  .going {
    opacity: 0.45;
  }
  .wire {
    position: absolute;
    left: 0;
    right: 0;
    top: 50%;
    height: 2px;
    margin-top: -1px;
    background: var(--edge);
  }
</style>
