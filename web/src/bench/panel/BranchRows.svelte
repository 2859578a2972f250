<script lang="ts">
  import { sharedKind, stageOf } from '../../lib/chain';
  import type { Live } from '../../lib/live.svelte';
  import type { Control, Split } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import BranchRow from './BranchRow.svelte';

  interface Props {
    work: Work;
    live: Live;
    split: Split;
  }
  let { work, live, split }: Props = $props();

  let taken = $state.raw<Record<string, number>>({});
  const MAIN = [
    'threshold_db',
    'ratio',
    'attack_ms',
    'release_ms',
    'max_reduction_db',
    'makeup_db',
    'gain_db',
  ];
  const shared = $derived(sharedKind(split));
  const controls = $derived(main());

  $effect(() =>
    live.onReports((batch) => {
      const reported = batch[batch.length - 1]?.report.stages ?? {};
      taken = Object.fromEntries(
        Object.entries(reported).map(([id, s]) => [id, Math.max(0, ...s.reduction)]),
      );
    }),
  );

  /** The controls that stand in every row: the usual ones, or the first of the kind. */
  function main(): Control[] {
    const all = (work.kinds[shared ?? '']?.controls ?? []).filter((c) => c.type === 'number');
    const usual = MAIN.map((n) => all.find((c) => c.name === n)).filter((c) => c !== undefined);
    return (usual.length >= 3 ? usual : all).slice(0, 6);
  }
</script>

<div class="rows">
  <table>
    <thead>
      <tr>
        <td></td><th>solo</th><th>on</th><th>gain</th>
        {#each controls as control (control.name)}<th>{control.label}</th>{/each}
        <th title="A limiter at the end of the branch, which nothing passes">wall</th>
        <th>now</th><td></td><td></td>
      </tr>
    </thead>
    <tbody>
      {#each split.branches as branch, i (branch.id)}
        {@const stage = shared ? stageOf(branch, shared) : null}
        <BranchRow
          {work}
          {branch}
          number={i + 1}
          branches={split.branches}
          {controls}
          {shared}
          {stage}
          taken={stage ? (taken[stage.id] ?? 0) : 0}
          onchoose={() => work.choose(split.id, work.branchId === branch.id ? '' : branch.id)}
        />
      {/each}
    </tbody>
  </table>
</div>

<style>
  .rows {
    min-width: 0;
    overflow-x: auto;
  }
  table {
    width: 100%;
    border-collapse: collapse;
    white-space: nowrap;
  }
  th {
    text-align: left;
    font-weight: 400;
    color: var(--muted);
    font-size: var(--note);
  }
  td,
  th {
    padding: 2px 10px 2px 0;
    border-bottom: 1px solid var(--hair);
  }
</style>
