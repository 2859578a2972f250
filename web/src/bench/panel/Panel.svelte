<script lang="ts">
  import { untrack, type Component } from 'svelte';
  import Choice from '../../components/Choice.svelte';
  import Slider from '../../components/Slider.svelte';
  import Checkbox from '../../components/Checkbox.svelte';
  import type { Live } from '../../lib/live.svelte';
  import type { Control, Hit, Kind, ParamValue, Picture, Slot } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import BandSliders from './BandSliders.svelte';
  import BendPicture from '../pictures/BendPicture.svelte';
  import CeilingPicture from '../pictures/CeilingPicture.svelte';
  import CorrelationPicture from '../pictures/CorrelationPicture.svelte';
  import CurvePicture from '../pictures/CurvePicture.svelte';
  import CutPicture from '../pictures/CutPicture.svelte';
  import DecayPicture from '../pictures/DecayPicture.svelte';
  import EnvelopePicture from '../pictures/EnvelopePicture.svelte';
  import FirstStages from './FirstStages.svelte';
  import GatePicture from '../pictures/GatePicture.svelte';
  import HitShape from '../pictures/HitShape.svelte';
  import HitsPicture from '../pictures/HitsPicture.svelte';
  import KeyBar from './KeyBar.svelte';
  import MarkBox from './MarkBox.svelte';
  import MovingSlider from '../../components/MovingSlider.svelte';
  import PlaceList from './PlaceList.svelte';
  import PlacesPicture from '../pictures/PlacesPicture.svelte';
  import PointsPicture from '../pictures/PointsPicture.svelte';
  import RangePicture from '../pictures/RangePicture.svelte';
  import ShaperPicture from '../pictures/ShaperPicture.svelte';
  import ScanBox from './ScanBox.svelte';
  import SharesPicture from '../pictures/SharesPicture.svelte';
  import HarmonicsPicture from '../pictures/HarmonicsPicture.svelte';
  import SidesPicture from '../pictures/SidesPicture.svelte';
  import SourcePicture from '../pictures/SourcePicture.svelte';
  import SplitPanel from './SplitPanel.svelte';
  import TonePicture from '../pictures/TonePicture.svelte';
  import WavePicture from '../pictures/WavePicture.svelte';
  import { api } from '../../lib/api';
  import { Drawing } from '../../lib/drawing.svelte';
  import { Keying } from '../../lib/keying.svelte';
  import type { Known, PictureProps } from '../../lib/picture';
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

  /** What explains a processor, and where it is set by hand. */
  const PICTURES: Record<Kind['pictures'][number], Component<PictureProps>> = {
    bend: BendPicture,
    ceiling: CeilingPicture,
    correlation: CorrelationPicture,
    curve: CurvePicture,
    cut: CutPicture,
    decay: DecayPicture,
    envelope: EnvelopePicture,
    gate: GatePicture,
    harmonics: HarmonicsPicture,
    'hit-shape': HitShape,
    hits: HitsPicture,
    places: PlacesPicture,
    points: PointsPicture,
    range: RangePicture,
    shaper: ShaperPicture,
    shares: SharesPicture,
    sides: SidesPicture,
    source: SourcePicture,
    tone: TonePicture,
    wave: WavePicture,
  };
  const keying = untrack(() => new Keying(work));
  const drawing = untrack(() => new Drawing(work, () => work.stage));

  /** What was asked for of a place, or `none` where the answer cannot be had. */
  async function asked<T>(
    none: T,
    ask: (session: number, strip: string, stage: string) => Promise<T>,
  ): Promise<T> {
    const { state, stripId, stage } = work;
    if (!state || !stage) return none;
    return ask(state.id, stripId, stage.id).catch(() => none);
  }
  const known: Known = {
    picture: (columns) =>
      asked(null as Picture | null, (s, strip, id) =>
        api.picture(s, strip, id, 0, work.frames, columns),
      ),
    reports: (names, columns) =>
      asked(null as Record<string, number[]> | null, (s, strip, id) =>
        api.reports(s, strip, id, names, columns),
      ),
    hits: (before) => asked([] as Hit[], (s, strip, id) => api.hits(s, strip, id, before)),
  };
  const LAST = ['rms_ms', 'release_bpm'];
  const stage = $derived(work.stage);
  const kind = $derived(work.kind);
  const shownControls = $derived(
    (kind?.controls ?? []).filter(
      (c) =>
        (c.type === 'number' || c.choices.length > 4) && stage && work.applies(c, stage.params),
    ),
  );
  // What comes and goes with a choice stands behind the mix, so that nothing else moves; the
  // release's note takes the release's own place.
  const steady = $derived(shownControls.filter((c) => !LAST.includes(c.name)));
  const passing = $derived(shownControls.filter((c) => LAST.includes(c.name)));
  const choices = $derived(
    (kind?.controls ?? []).filter((c) => c.type === 'choice' && c.choices.length <= 4),
  );
  const lists = $derived((kind?.controls ?? []).filter((c) => c.type === 'bands'));
  /** Places are a list beside their picture, not sliders. */
  const places = $derived(kind?.pictures.includes('places') ? lists[0] : undefined);
  const switches = $derived((kind?.controls ?? []).filter((c) => c.type === 'switch'));

  function others(name: string): Partial<Record<Slot, ParamValue>> {
    const found: Partial<Record<Slot, ParamValue>> = {};
    for (const [slot, params] of compare.heldParams(stage?.id ?? '')) {
      if (params[name] !== stage?.params[name]) found[slot] = params[name] ?? null;
    }
    return found;
  }

  /** Note values that may be typed on a time in milliseconds: a release, beside its note. */
  function notesOf(name: string): readonly string[] {
    const note = kind?.controls.find((c) => c.name === name.replace(/_ms$/, '_note'));
    return name.endsWith('_ms') && note?.type === 'choice' ? note.choices : [];
  }

  function setNote(name: string, note: string): Promise<void> {
    if (!stage) return Promise.resolve();
    const stem = name.replace(/_ms$/, '');
    const params = { [`${stem}_note`]: note, [`${stem}_mode`]: 'tempo' };
    return work.edit({ type: 'set_params', stage: stage.id, params, whole: false });
  }

  function around(by: 'copies' | 'bands' | 'mid-side'): void {
    if (!stage) return;
    const all = work.chosen.length ? work.chosen : [stage.id];
    void work.edit({ type: 'add_split', by, around: all, index: 0, bands: 3 }).then(() => {
      if (work.around) work.choose(work.around.id);
    });
  }
</script>

{#snippet one(control: Control)}
  {#if control.type === 'number'}
    <Slider
      {control}
      value={work.moving(stage?.id ?? '', control.name) ?? stage?.params[control.name] ?? null}
      moves={work.laneOf(stage?.id ?? '', control.name) !== null}
      onlane={() => (work.lane = { owner: stage?.id ?? '', control: control.name })}
      onaim={aiming.names.has(control.name) ? () => aiming.showFor(control.name) : undefined}
      others={others(control.name)}
      notes={notesOf(control.name)}
      onnote={(note) => void setNote(control.name, note)}
      onhold={(value) => work.hold(control.name, value)}
      ondrop={() => void work.drop()}
    />
  {:else}
    <label class="note" title={control.doc}
      >{control.label}
      <select
        value={String(stage?.params[control.name])}
        onchange={(e) => void work.set(control.name, e.currentTarget.value)}
      >
        {#each control.choices as choice (choice)}<option value={choice}
            >{choice.replace('t', ' triplet').replace(/\.$/, ' dotted')}</option
          >{/each}
      </select>
    </label>
  {/if}
{/snippet}

{#if work.split}
  <SplitPanel {work} {live} {aiming} split={work.split} />
{:else if stage && kind}
  <section
    class="panel"
    class:aiming={aiming.open}
    class:listed={places}
    aria-label="{kind.title} on {work.strip?.name}"
  >
    <header>
      <h2>{kind.title}</h2>
      <span class="where">on {work.strip?.name}</span>
      {#if work.tried}
        <span class="tried" role="status">
          trying “{work.tried.name}”: {work.tried.note} <b>Enter</b> keeps, <b>Esc</b> restores
        </span>
      {:else}
        <span class="steps">
          starting points
          <button onclick={() => work.tryPoint(-1)} aria-label="Previous starting point">[</button>
          <button onclick={() => work.tryPoint(1)} aria-label="Next starting point">]</button>
        </span>
      {/if}
      <button
        class="aim"
        title="A: say what is wanted, and have the value found"
        aria-expanded={aiming.open}
        onclick={() => aiming.show()}>aim</button
      >
      <span class="space"></span>
      {#if kind.has_sidechain}<KeyBar {work} {keying} />{/if}
    </header>
    {#if aiming.open}<div class="aiming-row">
        <AimBox {aiming} />
        {#if stage.kind === 'gate'}<MarkBox marking={aiming.marking} rate={work.rate} />{/if}
      </div>{/if}
    <div class="left">
      {#if kind.pictures.length}
        {@const pictures = kind.pictures}
        <div
          class="pictures"
          class:one={pictures.length === 1}
          class:tall={pictures.includes('tone') || places}
        >
          {#each pictures as name (name)}
            {@const Part = PICTURES[name]}
            <Part
              {stage}
              {kind}
              {drawing}
              {known}
              rate={work.rate}
              frames={work.frames}
              frame={live.frame}
              playing={live.transport.playing}
              fresh={work.fresh}
              bandIndex={work.bandIndex}
              scan={taming.answer}
              onReports={(listener) => live.onReports(listener)}
              onband={(index) => (work.bandIndex = index)}
              moves={(control) => work.laneOf(stage.id, control) !== null}
              onlane={(control) => (work.lane = { owner: stage.id, control })}
              onhold={(name, value) => work.hold(name, value)}
              onset={(name, value) => void work.set(name, value)}
              ondrop={() => void work.drop()}
            />
          {/each}
        </div>
      {/if}
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
      <div class="acts">
        <button onclick={() => around('copies')} title="A dry branch beside it, steadily joined"
          >blend {work.chosen.length > 1 ? `these ${work.chosen.length}` : 'this'}</button
        >
        <button onclick={() => around('bands')} title="A copy of it on each of three bands"
          >into bands</button
        >
        <button onclick={() => around('mid-side')} title="A copy on the middle, one on the sides"
          >mid and sides</button
        >
        {#if work.around}
          <button
            title="The other branches get the same stage"
            onclick={() => void work.edit({ type: 'copy_to_siblings', stage: stage.id })}
            >copy to other branches</button
          >
        {/if}
        <button onclick={onkeep} title="Keep it in the library of recipes">keep as recipe</button>
        <button onclick={() => void work.edit({ type: 'remove_stage', stage: stage.id })}
          >take away</button
        >
      </div>
    </div>
    <div class="rules">
      {#if places}<ScanBox {work} {taming} control={places} />
      {:else if kind.glyph === 'response'}{#each lists as control (control.name)}<BandSliders
            {work}
            {control}
          />{/each}{/if}
      {#each steady as control (control.name)}{@render one(control)}{/each}
      <MovingSlider
        {work}
        owner={stage.id}
        control="mix"
        value={stage.mix}
        onhold={(value) => work.holdMix(stage, value)}
        onaim={() => aiming.showFor('mix')}
      />
      {#each passing as control (control.name)}{@render one(control)}{/each}
      {#if kind.glyph !== 'response'}{#each lists as control (control.name)}<BandSliders
            {work}
            {control}
          />{/each}{/if}
    </div>
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
  .aim {
    text-decoration: underline dotted;
    text-underline-offset: 3px;
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
  header {
    grid-column: 1 / -1;
    display: flex;
    align-items: baseline;
    gap: var(--s3);
    min-width: 0;
    white-space: nowrap;
  }
  .panel.listed {
    grid-template-columns: minmax(0, 1fr) 290px;
  }
  .listed .pictures.tall {
    height: 216px;
  }
  .listed .rules {
    gap: 3px var(--s3);
  }
  h2 {
    font-size: var(--heading);
  }
  .where,
  .steps {
    color: var(--muted);
  }
  .steps button {
    padding: 0 6px;
    border: 1px solid var(--hair);
  }
  .tried {
    color: var(--ochre);
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .space {
    flex: 1;
  }
  .small {
    border-bottom: 1px dotted currentColor;
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: var(--s1) var(--s3);
    font-size: var(--note);
    color: var(--slate);
  }
  .acts button {
    border-bottom: 1px dotted currentColor;
  }
  .acts button:hover {
    color: var(--ink);
    text-decoration: underline;
  }
  .left {
    display: grid;
    align-content: start;
    gap: var(--s2);
    min-width: 0;
  }
  .pictures {
    display: grid;
    grid-template-columns: 216px 190px;
    grid-template-rows: minmax(0, 1fr);
    gap: var(--s2);
    height: 170px;
  }
  .pictures.one {
    grid-template-columns: 1fr;
  }
  .pictures.tall {
    height: 250px;
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
  .rules {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 3px var(--s5);
    align-content: start;
    min-width: 0;
  }
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
  @media (max-width: 1100px) {
    .where {
      display: none;
    }
    header {
      gap: var(--s2);
    }
    .panel {
      grid-template-columns: 216px minmax(0, 1fr);
    }
    .panel.listed {
      grid-template-columns: minmax(0, 1fr) 190px;
    }
    .listed .rules {
      grid-template-columns: 1fr;
    }
    .listed .pictures {
      grid-template-columns: 1fr;
    }
    .pictures {
      grid-template-columns: 216px;
    }
    .pictures > :global(* + *) {
      display: none;
    }
    .choices {
      grid-template-columns: 1fr;
    }
    .rules {
      gap: 3px var(--s4);
    }
  }
</style>
