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
</script>

<div class="stave" role="group" aria-label="Stave of {name}" data-stave={place}>
  <i class="wire"></i>
  {#each chain as element, index (element.id)}
    <Gap {score} {place} {index} {small} words="Add on {name} before {element.kind}" />
    {#if isSplit(element)}
      <Bracket {work} {live} {score} split={element} {small} />
    {:else}
      <Block {work} {live} {score} stage={element} {small} />
    {/if}
  {/each}
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
