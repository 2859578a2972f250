<script lang="ts">
  import Slider from '../../components/Slider.svelte';
  import type { Aiming } from '../../lib/aiming.svelte';
  import type { Compare } from '../../lib/compare.svelte';
  import type { Control, ParamValue, Slot } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';

  interface Props {
    work: Work;
    compare: Compare;
    aiming: Aiming;
    control: Control;
  }
  let { work, compare, aiming, control }: Props = $props();

  const stage = $derived(work.stage);
  const name = $derived(control.name);
  const value = $derived(stage?.params[name] ?? null);
  /** Where the other settings have it. */
  const others = $derived.by(() => {
    const found: Partial<Record<Slot, ParamValue>> = {};
    for (const [slot, params] of compare.heldParams(stage?.id ?? '')) {
      if (params[name] !== stage?.params[name]) found[slot] = params[name] ?? null;
    }
    return found;
  });
  /** Note values that may be typed on a time in milliseconds: a release, beside its note. */
  const notes = $derived.by(() => {
    const note = work.kind?.controls.find((c) => c.name === name.replace(/_ms$/, '_note'));
    return name.endsWith('_ms') && note?.type === 'choice' ? note.choices : [];
  });

  function setNote(note: string): void {
    if (!stage) return;
    const stem = name.replace(/_ms$/, '');
    const params = { [`${stem}_note`]: note, [`${stem}_mode`]: 'tempo' };
    void work.edit({ type: 'set_params', stage: stage.id, params, whole: false });
  }
</script>

{#if control.type === 'number'}
  <Slider
    {control}
    value={work.moving(stage?.id ?? '', name) ?? value}
    moves={work.laneOf(stage?.id ?? '', name) !== null}
    onlane={() => (work.lane = { owner: stage?.id ?? '', control: name })}
    onaim={aiming.names.has(name) ? () => aiming.showFor(name) : undefined}
    {others}
    {notes}
    onnote={setNote}
    onhold={(to) => work.hold(name, to)}
    ondrop={() => void work.drop()}
  />
{:else}
  <label class="note" title={control.doc}
    >{control.label}
    <select value={String(value)} onchange={(e) => void work.set(name, e.currentTarget.value)}>
      {#each control.choices as choice (choice)}<option value={choice}
          >{choice.replace('t', ' triplet').replace(/\.$/, ' dotted')}</option
        >{/each}
    </select>
  </label>
{/if}

<style>
  .note {
    display: flex;
    justify-content: space-between;
    align-items: start;
    color: var(--slate);
  }
  select {
    background: var(--field);
    border: 1px solid var(--hair);
    color: var(--ink);
  }
</style>
