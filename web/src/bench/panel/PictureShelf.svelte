<script lang="ts">
  import { untrack, type Component } from 'svelte';
  import { api } from '../../lib/api';
  import { Drawing } from '../../lib/drawing.svelte';
  import type { Live } from '../../lib/live.svelte';
  import type { Known, PictureProps } from '../../lib/picture';
  import type { Hit, Kind, Picture, Stage } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import BendPicture from '../pictures/BendPicture.svelte';
  import CeilingPicture from '../pictures/CeilingPicture.svelte';
  import CorrelationPicture from '../pictures/CorrelationPicture.svelte';
  import CurvePicture from '../pictures/CurvePicture.svelte';
  import CutPicture from '../pictures/CutPicture.svelte';
  import DecayPicture from '../pictures/DecayPicture.svelte';
  import EnvelopePicture from '../pictures/EnvelopePicture.svelte';
  import GatePicture from '../pictures/GatePicture.svelte';
  import HarmonicsPicture from '../pictures/HarmonicsPicture.svelte';
  import HitShape from '../pictures/HitShape.svelte';
  import HitsPicture from '../pictures/HitsPicture.svelte';
  import PlacesPicture from '../pictures/PlacesPicture.svelte';
  import PointsPicture from '../pictures/PointsPicture.svelte';
  import RangePicture from '../pictures/RangePicture.svelte';
  import ShaperPicture from '../pictures/ShaperPicture.svelte';
  import SharesPicture from '../pictures/SharesPicture.svelte';
  import SidesPicture from '../pictures/SidesPicture.svelte';
  import SourcePicture from '../pictures/SourcePicture.svelte';
  import TonePicture from '../pictures/TonePicture.svelte';
  import WavePicture from '../pictures/WavePicture.svelte';

  /** The pictures of a stage, fed from what is in work and what plays. */
  interface Props {
    work: Work;
    live: Live;
    stage: Stage;
    kind: Kind;
    scan: PictureProps['scan'];
  }
  let { work, live, stage, kind, scan }: Props = $props();

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
  const drawing = untrack(() => new Drawing(work, () => work.stage));
  const pictures = $derived(kind.pictures);
  const places = $derived(pictures.includes('places'));

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
</script>

<div
  class="pictures"
  class:one={pictures.length === 1}
  class:tall={pictures.includes('tone') || places}
  class:listed={places}
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
      {scan}
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

<style>
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
  .pictures.tall.listed {
    height: 216px;
  }
  @media (max-width: 1100px) {
    .pictures {
      grid-template-columns: 216px;
    }
    .pictures.listed {
      grid-template-columns: 1fr;
    }
    .pictures > :global(* + *) {
      display: none;
    }
  }
</style>
