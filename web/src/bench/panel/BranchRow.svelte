<script lang="ts">
  import DragNumber from '../../components/DragNumber.svelte';
  import Checkbox from '../../components/Checkbox.svelte';
  import MovingNumber from '../../components/MovingNumber.svelte';
  import { ceilingOf, isSplit, wallOf } from '../../lib/chain';
  import { figure } from '../../lib/figures';
  import type { Branch, Control, Stage } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import BranchSolo from './BranchSolo.svelte';
  import CopyTo from './CopyTo.svelte';
  import WallNumber from './WallNumber.svelte';

  interface Props {
    work: Work;
    branch: Branch;
    number: number;
    branches: readonly Branch[];
    /** Of the kind that every branch has a stage of, those that stand in the row. */
    controls: readonly Control[];
    shared: string | null;
    stage: Stage | null;
    /** What the stage takes now, in dB. */
    taken: number;
    onchoose: () => void;
  }
  let { work, branch, number, branches, controls, shared, stage, taken, onchoose }: Props =
    $props();

  /** A wall is being put up; what is dragged meanwhile waits for it. */
  let adding = false;

  function holdWall(ceiling_db: number | null): void {
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

  function bypass(on: boolean): void {
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

<tr class:chosen={work.branchId === branch.id} class:quiet={!branch.on}>
  <th
    ><button title="Hear and see this branch alone" onclick={onchoose}
      >{number} {branch.name}</button
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
        onhold={(v) => holdWall(v)}
        ondrop={() => void work.drop()}
      />
    {/if}
  </td>
  <td class="now">{taken ? figure(-taken, 1) : ''}</td>
  <td>
    {#if branch.chain.length}
      <button class="act" onclick={() => bypass(!branch.chain.some((e) => e.on))}
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
        {branches}
        oncopy={(to) => void work.edit({ type: 'copy_to_siblings', stage: stage.id, to })}
      />
    {/if}
    {#if branches.length > 2}
      <button
        class="act"
        aria-label="Take {branch.name} away"
        onclick={() => void work.edit({ type: 'remove_branch', branch: branch.id })}>−</button
      >
    {/if}
  </td>
</tr>

<style>
  th {
    color: var(--ink);
    text-align: left;
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
