<script lang="ts">
  import MovingSlider from '../../components/MovingSlider.svelte';
  import type { Aiming } from '../../lib/aiming.svelte';
  import type { Compare } from '../../lib/compare.svelte';
  import type { Taming } from '../../lib/taming.svelte';
  import type { Control, Kind, Stage } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import BandSliders from './BandSliders.svelte';
  import ParamRow from './ParamRow.svelte';
  import ScanBox from './ScanBox.svelte';

  interface Props {
    work: Work;
    compare: Compare;
    aiming: Aiming;
    taming: Taming;
    stage: Stage;
    kind: Kind;
    /** A list that stands beside its picture, not among the sliders. */
    places: Control | undefined;
  }
  let { work, compare, aiming, taming, stage, kind, places }: Props = $props();

  const LAST = ['rms_ms', 'release_bpm'];
  const shown = $derived(
    kind.controls.filter(
      (c) => (c.type === 'number' || c.choices.length > 4) && work.applies(c, stage.params),
    ),
  );
  // What comes and goes with a choice stands behind the mix, so that nothing else moves; the
  // release's note takes the release's own place.
  const steady = $derived(shown.filter((c) => !LAST.includes(c.name)));
  const passing = $derived(shown.filter((c) => LAST.includes(c.name)));
  const lists = $derived(kind.controls.filter((c) => c.type === 'bands'));
</script>

<div class="rules" class:listed={places}>
  {#if places}<ScanBox {stage} {taming} control={places} />
  {:else if kind.glyph === 'response'}{#each lists as control (control.name)}<BandSliders
        {work}
        {control}
      />{/each}{/if}
  {#each steady as control (control.name)}<ParamRow {work} {compare} {aiming} {control} />{/each}
  <MovingSlider
    of={work.movable(stage.id, 'mix')}
    value={stage.mix}
    onhold={(value) => work.holdMix(stage, value)}
    onaim={() => aiming.showFor('mix')}
  />
  {#each passing as control (control.name)}<ParamRow {work} {compare} {aiming} {control} />{/each}
  {#if kind.glyph !== 'response'}{#each lists as control (control.name)}<BandSliders
        {work}
        {control}
      />{/each}{/if}
</div>

<style>
  .rules {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 3px var(--s5);
    align-content: start;
    min-width: 0;
  }
  .listed {
    gap: 3px var(--s3);
  }
  @media (max-width: 1100px) {
    .rules {
      gap: 3px var(--s4);
    }
    .listed {
      grid-template-columns: 1fr;
    }
  }
</style>
