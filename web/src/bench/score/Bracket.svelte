<script lang="ts">
  import Checkbox from '../../components/Checkbox.svelte';
  import { splitTitle } from '../../lib/chain';
  import { figure } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import type { Split } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import BranchSolo from '../panel/BranchSolo.svelte';
  import type { Score } from './score.svelte';
  import Stave from './Stave.svelte';

  interface Props {
    work: Work;
    live: Live;
    score: Score;
    split: Split;
    small: boolean;
  }
  let { work, live, score, split, small }: Props = $props();

  const open = $derived(work.isOpen(split.id));
  const title = $derived(splitTitle(split));
  const position = $derived(work.moving(split.id, 'position') ?? split.join.position);
  const join = $derived(
    split.join.law === 'sum' ? 'sum' : `${split.join.law} ${figure(position, 2)}`,
  );
  const chosen = $derived(work.stageId === split.id);

  function key(event: KeyboardEvent): void {
    if (event.altKey && event.key.startsWith('Arrow')) score.step(split.id, event.key);
    else if (event.key === 'Enter') {
      if (chosen) work.fold(split.id);
      else work.choose(split.id);
    } else if (event.key === 'Delete') {
      void work.edit({ type: 'remove_stage', stage: split.id });
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }
</script>

<div
  class="bracket"
  class:open
  class:off={!split.on}
  role="group"
  data-stage={split.id}
  aria-label={title}
>
  <button
    class="side left"
    class:chosen
    data-focus
    aria-expanded={open}
    aria-label="{title}, opening bracket"
    title="Click selects, double click opens and closes; Alt and arrows move it"
    onclick={() => work.choose(split.id)}
    ondblclick={() => work.fold(split.id)}
    onkeydown={key}
    onpointerdown={(e) => {
      if (e.button === 0) score.lift(split.id, e);
    }}
  ></button>
  {#if open}
    <div class="staves">
      {#each split.branches as branch (branch.id)}
        <div class="branch" class:quiet={!branch.on}>
          <button
            class="name"
            class:heard={work.branchId === branch.id}
            title="Select this branch: hear it and see it alone"
            onclick={() => work.choose(split.id, work.branchId === branch.id ? '' : branch.id)}
            >{branch.name}</button
          >
          <BranchSolo
            {branch}
            onsolo={(solo) => void work.edit({ type: 'set_branch', branch: branch.id, solo })}
          />
          <Stave
            {work}
            {live}
            {score}
            place={branch.id}
            name={branch.name}
            chain={branch.chain}
            small
          />
        </div>
      {/each}
    </div>
  {:else}
    <button
      class="folded"
      class:small
      ondblclick={() => work.fold(split.id)}
      onclick={() => work.choose(split.id)}
    >
      <b>{title}</b>
      <span>{split.branches.map((b) => b.name).join(', ')}</span>
    </button>
  {/if}
  <span class="side right" class:chosen></span>
  <span class="join">
    <Checkbox
      on={split.on}
      label="{title} on"
      onswitch={(on) => void work.edit({ type: 'set_split', split: split.id, on })}
      ><span></span></Checkbox
    >
    <button class="law" onclick={() => work.choose(split.id)}>{title}<br />{join}</button>
  </span>
</div>

<style>
  .bracket {
    position: relative;
    display: flex;
    align-items: stretch;
    flex: none;
    background: var(--ground);
  }
  .side {
    width: 8px;
    border: 3px solid var(--ink);
    cursor: grab;
    touch-action: none;
  }
  .left {
    border-right: 0;
  }
  .right {
    border-left: 0;
    cursor: default;
  }
  .side.chosen {
    border-color: var(--ink);
    background: var(--ochre-soft);
  }
  .off .side {
    border-style: dashed;
    border-width: 2px;
  }
  .staves {
    display: grid;
    padding: 1px 0;
    min-width: 150px;
  }
  .branch {
    display: flex;
    align-items: center;
    min-height: 28px;
  }
  .quiet {
    opacity: 0.5;
  }
  .name {
    width: 56px;
    padding-left: 6px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    color: var(--slate);
    font-size: var(--note);
  }
  .heard {
    color: var(--ink);
    font-weight: 700;
    text-decoration: underline;
  }
  .folded {
    display: grid;
    align-content: center;
    height: 54px;
    padding: 0 var(--s2);
    max-width: 130px;
    background: var(--field);
    border: solid var(--edge);
    border-width: 1px 0;
  }
  .folded.small {
    height: 26px;
  }
  .folded.small span {
    display: none;
  }
  .folded span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    color: var(--muted);
    font-size: var(--small);
  }
  .join {
    display: flex;
    gap: var(--s1);
    align-items: center;
    align-self: center;
    padding: 0 var(--s1) 0 6px;
    font-size: var(--small);
    line-height: 14px;
    color: var(--slate);
    white-space: nowrap;
    background: var(--ground);
    z-index: 1;
  }
  .law {
    max-width: 62px;
    text-align: left;
    white-space: normal;
  }
  .law:hover {
    color: var(--ink);
    text-decoration: underline;
  }
</style>
