<script lang="ts">
  import DragNumber from '../../components/DragNumber.svelte';
  import Checkbox from '../../components/Checkbox.svelte';
  import { ceilingOf, isSplit, sharedKind, stageOf, wallOf } from '../../lib/chain';
  import { figure } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import type { Branch, Control, Split, Stage } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import BranchSolo from './BranchSolo.svelte';
  import CopyTo from './CopyTo.svelte';
  import WallNumber from './WallNumber.svelte';
  import MovingNumber from '../../components/MovingNumber.svelte';

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

  /** A wall is being put up; what is dragged meanwhile waits for it. */
  let adding = false;

  function holdWall(branch: Branch, ceiling_db: number | null): void {
    const there = wallOf(branch);
    if (there && ceiling_db !== null) work.holdParam(there.id, 'ceiling_db', ceiling_db);
    else if (there) void work.edit({ type: 'remove_stage', stage: there.id });
    else if (ceiling_db !== null && !adding) {
      adding = true;
      const params = { ceiling_db, release_mode: 'adaptive' };
      const index = branch.chain.length;
      void work
        .edit({ type: 'add_stage', place: branch.id, index, kind: 'limiter', params })
        .finally(() => (adding = false));
    }
  }

  function bypass(branch: Branch, on: boolean): void {
    void work.edit(
      ...branch.chain.map((e) =>
        isSplit(e)
          ? ({ type: 'set_split', split: e.id, on } as const)
          : ({ type: 'set_stage', stage: e.id, on } as const),
      ),
    );
  }

  function shown(control: Control, stage: Stage): string {
    const value = stage.params[control.name];
    if (typeof value !== 'number') return String(value ?? 'open');
    const digits = Math.abs(value) >= 100 ? 0 : 1;
    return `${figure(value, digits)}${control.unit === ': 1' ? ' : 1' : ` ${control.unit}`}`;
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
        <tr class:chosen={work.branchId === branch.id} class:quiet={!branch.on}>
          <th
            ><button
              title="Hear and see this branch alone"
              onclick={() => work.choose(split.id, work.branchId === branch.id ? '' : branch.id)}
              >{i + 1} {branch.name}</button
            ></th
          >
          <td
            ><BranchSolo
              {branch}
              where=" here"
              onsolo={(solo) => void work.edit({ type: 'set_branch', branch: branch.id, solo })}
            /></td
          >
          <td
            ><Checkbox
              on={branch.on}
              label="{branch.name} on"
              onswitch={(on) => void work.edit({ type: 'set_branch', branch: branch.id, on })}
              ><span></span></Checkbox
            ></td
          >
          <td
            ><MovingNumber
              of={work.movable(branch.id, 'gain_db')}
              label="Gain of {branch.name}"
              value={branch.gain_db}
              onhold={(v) => work.holdBranch(branch.id, v)}
            /></td
          >
          {#each controls as control (control.name)}
            <td>
              {#if stage}
                <DragNumber
                  label="{control.label} of {branch.name}"
                  value={Number(stage.params[control.name] ?? control.low)}
                  low={control.low ?? 0}
                  high={control.high ?? 1}
                  unit={control.unit}
                  step={control.step}
                  log={control.scale === 'log'}
                  reset={Number(control.default ?? 0)}
                  text={shown(control, stage)}
                  onhold={(v) => work.holdParam(stage.id, control.name, v)}
                  ondrop={() => void work.drop()}
                />
              {:else}–{/if}
            </td>
          {/each}
          <td>
            {#if branch.chain.length}
              <WallNumber
                ceiling={ceilingOf(branch)}
                label="Wall of {branch.name}"
                onhold={(v) => holdWall(branch, v)}
                ondrop={() => void work.drop()}
              />
            {/if}
          </td>
          <td class="now">{stage && taken[stage.id] ? figure(-(taken[stage.id] ?? 0), 1) : ''}</td>
          <td>
            {#if branch.chain.length}
              <button class="act" onclick={() => bypass(branch, !branch.chain.some((e) => e.on))}
                >{branch.chain.some((e) => e.on) ? 'bypass' : 'bypassed'}</button
              >
            {:else}
              <button
                class="act"
                onclick={() =>
                  void work.edit({
                    type: 'add_stage',
                    place: branch.id,
                    index: 0,
                    kind: shared ?? 'compressor',
                    params: {},
                  })}>+ {work.kinds[shared ?? 'compressor']?.title.toLowerCase()}</button
              >
            {/if}
          </td>
          <td>
            {#if stage}
              <CopyTo
                what={shared ?? ''}
                {branch}
                branches={split.branches}
                oncopy={(to) => void work.edit({ type: 'copy_to_siblings', stage: stage.id, to })}
              />
            {/if}
            {#if split.branches.length > 2}
              <button
                class="act"
                aria-label="Take {branch.name} away"
                onclick={() => void work.edit({ type: 'remove_branch', branch: branch.id })}
                >−</button
              >
            {/if}
          </td>
        </tr>
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
  tbody th {
    color: var(--ink);
    font-weight: 600;
    font-size: var(--text);
  }
  td,
  th {
    padding: 2px 10px 2px 0;
    border-bottom: 1px solid var(--hair);
  }
  .chosen {
    background: var(--ochre-soft);
  }
  .quiet {
    color: var(--muted);
  }
  .now {
    min-width: 40px;
    color: var(--madder);
    font-weight: 600;
  }
  .act {
    color: var(--slate);
    font-size: var(--note);
    border-bottom: 1px dotted currentColor;
    margin-right: 6px;
  }
</style>
