<script lang="ts">
  import { untrack } from 'svelte';
  import Choice from '../../components/Choice.svelte';
  import Checkbox from '../../components/Checkbox.svelte';
  import type { Live } from '../../lib/live.svelte';
  import type { Work } from '../../lib/work.svelte';
  import FirstStages from './FirstStages.svelte';
  import KeyBar from './KeyBar.svelte';
  import MarkBox from './MarkBox.svelte';
  import PictureShelf from './PictureShelf.svelte';
  import PlaceList from './PlaceList.svelte';
  import StageActs, { type Around } from './StageActs.svelte';
  import StageHeader from './StageHeader.svelte';
  import StageRules from './StageRules.svelte';
  import SplitPanel from './SplitPanel.svelte';
  import { Keying } from '../../lib/keying.svelte';
  import AimBox from './AimBox.svelte';
  import type { Aiming } from '../../lib/aiming.svelte';
  import type { Taming } from '../../lib/taming.svelte';
  import type { Compare } from '../../lib/compare.svelte';
  import { figure } from '../../lib/figures';

  interface Props {
    work: Work;
    live: Live;
    compare: Compare;
    aiming: Aiming;
    taming: Taming;
    onkeep: () => void;
  }
  let { work, live, compare, aiming, taming, onkeep }: Props = $props();

  const keying = untrack(() => new Keying(work));

  const stage = $derived(work.stage);
  const kind = $derived(work.kind);
  const choices = $derived(
    (kind?.controls ?? []).filter((c) => c.type === 'choice' && c.choices.length <= 4),
  );
  /** Places are a list beside their picture, not sliders. */
  const places = $derived(
    kind?.pictures.includes('places') ? kind.controls.find((c) => c.type === 'bands') : undefined,
  );
  const switches = $derived((kind?.controls ?? []).filter((c) => c.type === 'switch'));

  function around(by: Around): void {
    if (!stage) return;
    const all = work.chosen.length ? work.chosen : [stage.id];
    void work.edit({ type: 'add_split', by, around: all, index: 0, bands: 3 }).then(() => {
      if (work.around) work.choose(work.around.id);
    });
  }
</script>

{#if work.split}
  <SplitPanel {work} {live} {aiming} split={work.split} />
{:else if stage && kind}
  <section
    class="panel"
    class:aiming={aiming.open}
    class:listed={places}
    aria-label="{kind.title} on {work.strip?.name}"
  >
    <StageHeader
      title={kind.title}
      strip={work.strip?.name ?? ''}
      tried={work.tried}
      aiming={aiming.open}
      ontry={(step) => work.tryPoint(step)}
      onaim={() => aiming.show()}
    >
      {#if kind.has_sidechain}<KeyBar
          {keying}
          strip={work.stripId}
          strips={work.model?.strips ?? []}
          titleOf={work.titleOf}
          hearing={work.hearKey}
          onhear={(hear) => work.listenToKey(hear)}
        />{/if}
    </StageHeader>
    {#if aiming.open}<div class="aiming-row">
        <AimBox {aiming} />
        {#if stage.kind === 'gate'}<MarkBox marking={aiming.marking} rate={work.rate} />{/if}
      </div>{/if}
    <div class="left">
      {#if kind.pictures.length}<PictureShelf
          {work}
          {live}
          {stage}
          {kind}
          scan={taming.answer}
        />{/if}
      {#if keying.offered !== null}
        <button class="small" onclick={() => keying.accept()}
          >keep the same hits: threshold {figure(keying.offered, 1)} dB</button
        >
      {/if}
      {#if places}<PlaceList {work} {live} {taming} control={places} />{/if}
      <div class="choices">
        {#each choices as control (control.name)}
          <Choice
            label={control.label}
            options={control.choices}
            value={String(stage.params[control.name])}
            titles={Object.fromEntries(control.choices.map((c) => [c, control.doc]))}
            onchoose={(value) => void work.set(control.name, value)}
          />
        {/each}
        {#each switches as control (control.name)}
          <div class="switch">
            <Checkbox
              on={Boolean(stage.params[control.name])}
              label={control.label}
              title={control.doc}
              onswitch={(on) => void work.set(control.name, on)}
            />
          </div>
        {/each}
      </div>
      <StageActs
        mono={work.strip?.channels === 1}
        many={work.chosen.length}
        branched={work.around !== null}
        onaround={around}
        oncopy={() => void work.edit({ type: 'copy_to_siblings', stage: stage.id })}
        {onkeep}
        onremove={() => void work.edit({ type: 'remove_stage', stage: stage.id })}
      />
    </div>
    <StageRules {work} {compare} {aiming} {taming} {stage} {kind} {places} />
  </section>
{:else if work.strip}
  <FirstStages {work} />
{/if}

<style>
  .panel.aiming {
    grid-template-rows: 30px auto minmax(0, 1fr);
  }
  .aiming-row {
    grid-column: 1 / -1;
    margin-bottom: var(--s1);
  }
  .panel {
    display: grid;
    grid-template-columns: 414px minmax(0, 1fr);
    grid-template-rows: 30px minmax(0, 1fr);
    gap: 0 20px;
    padding: var(--s1) 14px var(--s1);
    min-height: 0;
    overflow-y: auto;
    /* A shade at the foot as long as there is more below it. */
    background:
      linear-gradient(transparent, var(--ground) 70%) bottom / 100% 32px no-repeat local,
      linear-gradient(transparent, var(--edge)) bottom / 100% 10px no-repeat scroll;
  }
  .panel.listed {
    grid-template-columns: minmax(0, 1fr) 316px;
  }
  .small {
    border-bottom: 1px dotted currentColor;
  }
  .left {
    display: grid;
    align-content: start;
    gap: var(--s2);
    min-width: 0;
  }
  .choices {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: var(--s1) var(--s2);
    font-size: var(--note);
  }
  .switch {
    align-self: end;
    padding-bottom: 3px;
  }
  @media (max-width: 1100px) {
    .panel {
      grid-template-columns: 216px minmax(0, 1fr);
    }
    .panel.listed {
      grid-template-columns: minmax(0, 1fr) 190px;
    }
    .choices {
      grid-template-columns: 1fr;
    }
  }
</style>
