import { api, Refusal } from './api';
import type { Aiming } from './aiming.svelte';
import type { Live } from './live.svelte';
import type { BandRecord, ScanAnswer } from './types';
import type { Work } from './work.svelte';

/** Q of a bell so many octaves wide. */
const qOf = (octaves: number): number => 1 / (2 * Math.sinh((Math.LN2 / 2) * octaves));

/** How much is looked at for the picture alone. */
const GLANCE_S = 20;

/** Scans of what comes into a tamer, and hearing one place alone. */
export class Taming {
  busy = $state(false);
  error = $state<string | null>(null);
  /** Which place is heard alone. */
  heard = $state<number | null>(null);
  private answers = $state.raw<Record<string, ScanAnswer>>({});

  constructor(
    private work: Work,
    private live: Live,
    readonly aiming: Aiming,
  ) {}

  get passages(): string[] {
    return this.aiming.passages.map(([name]) => name);
  }

  /** What the last scan of the selected stage gave. */
  readonly answer: ScanAnswer | null = $derived.by(() => {
    const id = this.work.stage?.id;
    return id === undefined ? null : (this.answers[id] ?? null);
  });

  /** Scans, and puts what was found into the list: one undo step. */
  async scan(): Promise<void> {
    const answer = await this.look();
    const stage = this.work.stage;
    if (!answer || !stage) return;
    const places = answer.places as unknown as BandRecord[];
    const words = `scanned: ${answer.found.length} found`;
    await this.work.edit({
      type: 'set_params',
      stage: stage.id,
      params: { places },
      whole: false,
      words,
    });
    this.work.bandIndex = 0;
  }

  /** Looks at the passage and changes nothing. */
  async look(quiet = false): Promise<ScanAnswer | null> {
    const { work } = this;
    const passage = this.aiming.passages.find(([name]) => name === this.aiming.over);
    const [, begin, last] = passage ?? this.aiming.passages[0] ?? ['', 0, 0];
    const end = quiet ? Math.min(last, begin + GLANCE_S * work.rate) : last;
    const stage = work.stage?.id;
    if (!work.state || stage === undefined || this.busy) return null;
    this.busy = true;
    if (!quiet) this.error = null;
    try {
      const answer = await api.scan(work.state.id, { stage, begin, end });
      this.answers = { ...this.answers, [stage]: answer };
      return work.stage?.id === stage ? answer : null;
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      if (!quiet) this.error = error.message;
      return null;
    } finally {
      this.busy = false;
    }
  }

  /** Hears what comes in at one place alone, by the browser's own filter; null lets go. */
  hear(index: number | null): void {
    if (this.heard === index) return;
    this.heard = index;
    const places = this.work.stage?.params.places as BandRecord[] | undefined;
    const place = index === null ? undefined : places?.[index];
    this.live.hold(place ? 'in' : null);
    this.live.monitor.only(
      place ? { hz: Number(place.hz), q: qOf(Number(place.width_oct)) } : null,
    );
  }
}
