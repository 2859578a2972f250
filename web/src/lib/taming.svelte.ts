import { api, Refusal } from './api';
import type { Aiming } from './aiming.svelte';
import { hzOf } from './bands';
import { find, isSplit } from './chain';
import type { Live } from './live.svelte';
import type { BandRecord, ScanAnswer, Session, Strip } from './types';
import type { Work } from './work.svelte';

/** Q of a bell so many octaves wide. */
const qOf = (octaves: number): number => 1 / (2 * Math.sinh((Math.LN2 / 2) * octaves));

/** What the sound in front of a stage depends on: its strip without it, and all that feeds that. */
function inFrontOf(model: Session, strip: Strip, stage: string): unknown[] {
  const found = new Set<string>();
  const need = (id: string): void => {
    if (found.has(id)) return;
    found.add(id);
    for (const other of model.strips) {
      const keyed = JSON.stringify(model.strips.find((s) => s.id === id)?.chain ?? []);
      const leads = other.output === id || other.sends.some((send) => send.to === id);
      if (leads || keyed.includes(`"strip:${other.id}"`)) need(other.id);
    }
  };
  need(strip.id);
  const at = strip.chain.findIndex((e) => e.id === stage);
  const before = at < 0 ? strip.chain : strip.chain.slice(0, at);
  const { audio, trim_db, invert, join } = strip;
  const others = model.strips.filter((s) => s.id !== strip.id && found.has(s.id));
  return [audio, trim_db, invert, join, before, others, model.automation, model.levers];
}

/** How much is looked at for the picture alone. */
const GLANCE_S = 20;

/** Scans of what comes into a tamer, and hearing one place alone. */
export class Taming {
  /** The session that a scan is under way in. */
  private scanning = $state<number | null>(null);
  private said = $state.raw({ key: '', words: '' });
  private answers = $state.raw<Record<string, ScanAnswer>>({});
  /** What came into the stage when it was scanned. */
  private sources = $state.raw<Record<string, string>>({});
  private glancing = new Set<string>();

  constructor(
    private work: Work,
    private live: Live,
    readonly aiming: Aiming,
  ) {}

  readonly busy: boolean = $derived.by(
    () => this.scanning !== null && this.scanning === this.work.state?.id,
  );

  /** Why the last scan of the selected stage gave nothing. */
  get error(): string {
    return this.said.key === this.key ? this.said.words : '';
  }

  get passages(): string[] {
    return this.aiming.passages.map(([name]) => name);
  }

  /** What the last scan of the selected stage gave. */
  readonly answer: ScanAnswer | null = $derived.by(() => this.answers[this.key] ?? null);

  /** Whether something that comes into the stage was changed since its scan. */
  readonly stale: boolean = $derived.by(() => {
    const then = this.sources[this.key];
    return then !== undefined && this.answer !== null && then !== this.source;
  });

  /** All that the sound in front of the stage depends on, as text. */
  private get source(): string {
    const { model, strip, stage } = this.work;
    return model && strip && stage ? JSON.stringify(inFrontOf(model, strip, stage.id)) : '';
  }

  /** Which place is heard alone. */
  readonly heard: number = $derived.by(() => {
    const { place } = this.live.monitor;
    return place ? this.places.findIndex((p) => hzOf(p) === place.hz) : -1;
  });

  /** Scans, and puts what was found into the list: one undo step. */
  async scan(): Promise<void> {
    const { work, key, source } = this;
    const [session, stage] = [work.state?.id, work.stage?.id];
    if (session === undefined || stage === undefined || this.busy) return;
    const before = this.list(stage);
    this.scanning = session;
    this.said = { key, words: '' };
    try {
      const answer = await this.ask(session, stage, null);
      if (work.state?.id !== session) return;
      if (this.list(stage) !== before) {
        const words = 'the list was changed while it was scanned; nothing was put in, scan again';
        this.said = { key, words };
        return;
      }
      this.answers = { ...this.answers, [key]: answer };
      this.sources = { ...this.sources, [key]: source };
      const places = answer.places as unknown as BandRecord[];
      const words = `scanned: ${answer.found.length} found`;
      await work.edit({ type: 'set_params', stage, params: { places }, whole: false, words });
      if (work.stage?.id === stage) work.bandIndex = 0;
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      this.said = { key, words: error.message };
    } finally {
      if (this.scanning === session) this.scanning = null;
    }
  }

  /** Stops a scan under way; nothing is changed. */
  stop(): void {
    const session = this.work.state?.id;
    if (session !== undefined) void api.stopScans(session).catch(() => undefined);
  }

  /** Puts a held note into the list as if it rang. */
  tame(hz: number, fresh: (hz: number) => BandRecord): void {
    const { work } = this;
    work.bandIndex = this.places.length;
    void work.set('places', [...this.places, fresh(Math.round(hz))]);
  }

  /** Whether the list has a place within a sixth of an octave. */
  has(hz: number): boolean {
    return this.places.some((p) => Math.abs(Math.log2(hzOf(p) / hz)) < 1 / 6);
  }

  /** Looks at a little of the passage for the picture; changes nothing and says nothing. */
  async glance(): Promise<void> {
    const { work, key } = this;
    const [session, stage] = [work.state?.id, work.stage?.id];
    if (session === undefined || stage === undefined || this.glancing.has(key)) return;
    this.glancing.add(key);
    try {
      const answer = await this.ask(session, stage, GLANCE_S);
      if (!this.answers[key])
        this.answers = { ...this.answers, [key]: { ...answer, words: '', changes: '', held: [] } };
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
    } finally {
      this.glancing.delete(key);
    }
  }

  /** Hears what comes in at one place alone, by the browser's own filter; null lets go. */
  hear(index: number | null): void {
    const place = index === null ? undefined : this.places[index];
    this.live.only(place ? { hz: hzOf(place), q: qOf(Number(place.width_oct)) } : null);
  }

  private get key(): string {
    return `${this.work.state?.id}/${this.work.stage?.id}`;
  }

  private get places(): BandRecord[] {
    return (this.work.stage?.params.places as BandRecord[] | undefined) ?? [];
  }

  /** A stage's list as text, wherever the stage stands; nothing where it is gone. */
  private list(stage: string): string {
    for (const strip of this.work.model?.strips ?? []) {
      const found = find(strip.chain, stage);
      if (found && !isSplit(found)) return JSON.stringify(found.params.places ?? []);
    }
    return '';
  }

  private ask(session: number, stage: string, most_s: number | null): Promise<ScanAnswer> {
    const { aiming, work } = this;
    const [, begin, end] = aiming.passages.find(([name]) => name === aiming.over) ?? ['', 0, 0];
    const last = most_s === null ? end : Math.min(end, begin + most_s * work.rate);
    return api.scan(session, { stage, begin, end: last });
  }
}
