<script lang="ts">
  import BranchSolo from '../bench/panel/BranchSolo.svelte';
  import MovingNumber from '../components/MovingNumber.svelte';
  import { splits, splitTitle } from '../lib/chain';
  import { figure } from '../lib/figures';
  import type { Live } from '../lib/live.svelte';
  import type { Branch, Element } from '../lib/types';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    chain: Element[];
    onopen: () => void;
  }
  let { work, live, chain, onopen }: Props = $props();

  let taken = $state.raw<Record<string, number>>({});
  $effect(() =>
    live.onReports((batch) => {
      const reported = batch[batch.length - 1]?.report.stages ?? {};
      taken = Object.fromEntries(
        Object.entries(reported).map(([id, s]) => [id, Math.max(0, ...s.reduction)]),
      );
    }),
  );

  function words(branch: Branch): string {
    if (branch.chain.length === 0) return 'untouched';
    return branch.chain
      .map((e) => {
        const title = work.titleOf(e);
        const now = taken[e.id];
        return now && now > 0.05 ? `${title} ${figure(-now, 1)}` : title;
      })
      .join(', ');
  }
</script>

{#each splits(chain) as split (split.id)}
  {#each split.branches as branch (branch.id)}
    <div class="line" class:quiet={!branch.on}>
      <span class="split">{splitTitle(split)}</span>
      <b>{branch.name}</b>
      <BranchSolo
        {branch}
        onsolo={(solo) => void work.edit({ type: 'set_branch', branch: branch.id, solo })}
      />
      <MovingNumber
        of={work.movable(branch.id, 'gain_db')}
        label="Gain of {branch.name}"
        value={branch.gain_db}
        onhold={(v) => work.holdBranch(branch.id, v)}
        onlane={onopen}
      />
      <span>{words(branch)}</span>
    </div>
  {/each}
{/each}

<style>
  .line {
    display: grid;
    grid-template-columns: 116px 90px 20px 70px 1fr;
    gap: 0 var(--s3);
    align-items: center;
    min-height: 26px;
    padding: 0 var(--s3) 0 28px;
    border-bottom: 1px dotted var(--hair);
    border-left: 3px solid var(--ink);
    margin-left: var(--s3);
    font-size: var(--note);
  }
  .split {
    color: var(--muted);
  }
  .quiet {
    color: var(--muted);
  }
</style>
