import { api, bringToProve, Refusal } from './api';
import type { Live } from './live.svelte';
import { newest } from './newest';
import { sectionSpans } from './sections';
import { stored } from './stored';
import type {
  Delivery,
  Edit,
  PlayedAnswer,
  ProofState,
  Service,
  Target,
  Way,
  WayResult,
} from './types';
import type { Work } from './work.svelte';

export const MIX = 'as-it-stands';
export type Heard = 'original' | 'decoded' | 'taken';
const KEPT = 'ways out';

/** A proof of the mix: asked for, looked at, heard. */
export class Proving {
  state = $state.raw<ProofState>({
    state: 'none',
    number: 0,
    words: '',
    shares: {},
    current: true,
  });
  delivery = $state.raw<Delivery | null>(null);
  /** What is proved: a strip (null: the main mix), or a file that was dropped. */
  strip = $state<string | null>(null);
  file = $state<string | null>(null);
  passage = $state('the song');
  target = $state.raw<Target | null>(null);
  /** Every way out in the table, and whether it is gone. */
  ways = $state.raw<{ way: Way; on: boolean }[]>([]);
  limit = $state(0);
  /** The row that is looked at and heard. */
  row = $state(MIX);
  heard = $state<Heard>('original');
  same = $state(true);
  asPlayed = $state(false);
  service = $state.raw<Service>({ loudness: -14, up: true, limits: true });
  played = $state.raw<PlayedAnswer | null>(null);
  private session = 0;
  private element: HTMLAudioElement | null = null;
  private context: AudioContext | null = null;

  constructor(
    private work: Work,
    private live: Live,
  ) {
    live.onEvent((event) => {
      if (event.type !== 'proving' || event.session !== work.state?.id) return;
      if (event.number === this.state.number && ['waiting', 'running'].includes(event.state)) {
        const { state, words, shares } = event;
        this.state = { ...this.state, state, words, shares };
        if (event.ways === this.known) return;
      }
      this.load();
    });
  }

  readonly proof = $derived(this.state.proof ?? null);
  readonly running = $derived(['waiting', 'running'].includes(this.state.state));
  readonly known = $derived(this.proof ? (this.proof.ways?.length ?? 0) : -1);
  readonly rows = $derived(this.table());
  readonly ceiling = $derived(this.proof?.ceiling ?? null);
  /** The passages that can be proved: the song, the loop, each section. */
  readonly passages = $derived.by(() => [
    'the song',
    ...(this.live.transport.loop ? ['the loop'] : []),
    ...(this.work.model?.sections ?? []).map((s, i) => `${i + 1}. ${s.name}`),
  ]);

  /** Every row: the mix, then each way with what is known of it. */
  private table(): {
    name: string;
    words: string;
    on: boolean;
    way: Way;
    found: WayResult | null;
  }[] {
    const found = [this.proof?.as_it_stands, ...(this.proof?.ways ?? [])] as (
      WayResult | undefined
    )[];
    const of = (name: string): WayResult | null => found.find((f) => f?.name === name) ?? null;
    return [
      { name: MIX, words: 'as it stands', on: true, way: {} as Way, found: of(MIX) },
      ...this.ways.map(({ way, on }) => {
        const name = wayName(way);
        return { name, words: wayWords(way, this.delivery), on, way, found: of(name) };
      }),
    ];
  }

  load = newest(async () => {
    const { state } = this.work;
    if (!state) return;
    if (!this.delivery) this.begin(await api.delivery());
    if (state.id !== this.session) this.another(state.id);
    this.state = await api.proof(state.id);
    await this.askPlayed();
  }, 100);

  /** What was chosen in one session means nothing in another. */
  private another(session: number): void {
    this.session = session;
    this.strip = this.file = null;
    this.row = MIX;
    this.heard = 'original';
    this.passage = 'the song';
  }

  private begin(delivery: Delivery): void {
    this.delivery = delivery;
    this.target ??= delivery.ours[0] ?? null;
    this.ways = stored<{ way: Way; on: boolean }[]>(KEPT, []).filter((w) => w?.way);
    if (this.ways.length === 0) this.ways = delivery.usual.map((way) => ({ way, on: true }));
  }

  setWays(ways: { way: Way; on: boolean }[]): void {
    this.ways = ways;
    localStorage.setItem(KEPT, JSON.stringify(ways));
  }

  private async askPlayed(): Promise<void> {
    const { state } = this.work;
    this.played = state && this.proof ? await api.played(state.id, this.service) : null;
  }

  setService(change: Partial<Service>): void {
    this.service = { ...this.service, ...change };
    void this.askPlayed().then(() => this.listen());
  }

  /** Begins a proof of what is chosen. */
  async prove(): Promise<void> {
    const { state } = this.work;
    if (!state || !this.target) return;
    const [begin, end] = this.span();
    await this.asked(() =>
      api.prove(state.id, {
        strip: this.strip,
        file: this.file,
        begin,
        end,
        ways: this.ways.filter((w) => w.on).map((w) => w.way),
        target: this.target as Target,
        limit_dbtp: this.limit,
        ceiling: true,
      }),
    );
  }

  async stop(): Promise<void> {
    const { state } = this.work;
    if (state) await this.asked(() => api.stopProof(state.id));
  }

  private async asked(ask: () => Promise<ProofState>): Promise<void> {
    try {
      this.state = await ask();
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      this.work.problem = error.message;
    }
  }

  private span(): [number, number | null] {
    if (this.file !== null) return [0, null];
    if (this.passage === 'the loop' && this.live.transport.loop) return this.live.transport.loop;
    const { model, frames } = this.work;
    const section = model && sectionSpans(model, frames)[Number.parseInt(this.passage, 10) - 1];
    return section ? [section.begin, section.end] : [0, null];
  }

  async bring(file: File): Promise<void> {
    const { state } = this.work;
    if (!state) return;
    try {
      this.file = (await bringToProve(state.id, file)).file;
      await this.prove();
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      this.work.problem = error.message;
    }
  }

  async keepTarget(target: Target): Promise<boolean> {
    try {
      this.delivery = await api.keepTarget(target);
      this.target = target;
      return true;
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      this.work.problem = error.message;
      return false;
    }
  }

  async removeTarget(target: Target): Promise<void> {
    this.delivery = await api.removeTarget(target.name);
    this.target = this.delivery.ours[0] ?? null;
  }

  /** Sets the limiter that the strip ends in, or puts one there: one undo step. */
  async use(ceiling_db: number): Promise<void> {
    const { model } = this.work;
    const strip = model?.strips.find((s) => (this.strip ? s.id === this.strip : s.kind === 'main'));
    if (!strip || this.file !== null) return;
    const on = strip.chain.filter((e) => e.kind === 'split' || e.on);
    const last = on[on.length - 1];
    const edit: Edit =
      last?.kind === 'limiter'
        ? {
            type: 'set_params',
            stage: last.id,
            params: { ceiling_db },
            whole: false,
            words: `ceiling ${ceiling_db.toFixed(1)} dB, as proved`,
          }
        : {
            type: 'add_stage',
            place: strip.id,
            index: strip.chain.length,
            kind: 'limiter',
            params: { ceiling_db },
          };
    await this.work.edit(edit);
    this.load();
  }

  /** Overs of the row that is looked at, in frames of the song. */
  overFrames(result: WayResult | null): { frame: number; db: number }[] {
    const { proof } = this;
    if (!proof || !result) return [];
    return result.overs.map((o) => ({
      frame: proof.begin + Math.round((o.frame / result.rate) * proof.rate),
      db: o.peak_dbtp - proof.limit_dbtp,
    }));
  }

  /** Goes to the over before or behind the playhead, in the row that is looked at. */
  step(by: 1 | -1): void {
    const row = this.rows.find((r) => r.name === this.row);
    const frames = this.overFrames(row?.found ?? null).map((o) => o.frame - this.work.rate / 2);
    const here = this.live.frame;
    const next =
      by > 0
        ? frames.find((f) => f > here + 1)
        : [...frames].reverse().find((f) => f < here - this.work.rate);
    if (next !== undefined) this.from(next);
  }

  /** Plays on from a place of the song, or stands there. */
  from(frame: number): void {
    const { live } = this;
    const at = Math.max(Math.round(frame), 0);
    live.frame = at;
    live.send(live.transport.playing ? { type: 'play', frame: at } : { type: 'seek', frame: at });
    this.listen();
  }

  look(name: string): void {
    this.row = name;
    if (name === MIX) this.heard = 'original';
    else if (this.heard === 'original') this.heard = 'decoded';
    this.listen();
  }

  hear(what: Heard): void {
    this.heard = what;
    if (what !== 'original' && this.row === MIX) {
      const over = this.rows.find((r) => r.name !== MIX && r.found);
      if (over) this.row = over.name;
    }
    this.listen();
  }

  /** Whether the engine itself plays what was proved. */
  private get live_mix(): boolean {
    return this.heard === 'original' && this.file === null && this.strip === null;
  }

  /** Gains in dB of the engine's mix and of what comes back. */
  readonly gains = $derived.by(() => {
    const row = this.rows.find((r) => r.name === this.row);
    const louder = row?.found?.loudness_lu ?? 0;
    const turned = this.asPlayed ? (this.played?.gain_db ?? 0) : 0;
    const same = this.same && this.heard !== 'taken';
    return {
      mix: turned + (same ? Math.min(louder, 0) : 0),
      back: turned + (same ? Math.min(-louder, 0) : 0),
    };
  });

  /** Lets be heard what is chosen, in step with the song. */
  listen(): void {
    const { live, work, state, proof } = this;
    const own = 10 ** (this.gains.mix / 20);
    if (!proof || this.live_mix || !live.context) {
      this.element?.pause();
      live.beside(own, 0);
      return;
    }
    const element = this.ready();
    if (!element || !work.state) return;
    const name = this.heard === 'original' ? MIX : this.row;
    const taken = this.heard === 'taken' ? '?taken=true' : '';
    const address = `/api/sessions/${work.state.id}/proof/audio/${name}${taken}`;
    if (element.dataset.of !== `${state.number}${address}`) {
      element.dataset.of = `${state.number}${address}`;
      element.src = `${address}${taken ? '&' : '?'}of=${state.number}`;
    }
    const at = Math.max(live.frame - proof.begin, 0) / work.rate;
    if (Math.abs(element.currentTime - at) > 0.12) element.currentTime = at;
    live.beside(0, 10 ** (this.gains.back / 20));
    if (live.transport.playing) void element.play().catch(() => undefined);
    else element.pause();
  }

  /** What comes back is still: something else is held, or another view is looked at. */
  rest(): void {
    this.element?.pause();
  }

  /** Everything is heard from the engine again. */
  leave(): void {
    this.rest();
    this.live.beside(1, 0);
  }

  private ready(): HTMLAudioElement | null {
    const { live } = this;
    if (!this.element || this.context !== live.context) {
      this.element?.pause();
      this.element = new Audio();
      this.context = live.context;
      live.playBeside(this.element);
    }
    return this.element;
  }
}

/** What a way is called, as the server calls it. */
export function wayName(way: Way): string {
  const parts = [
    way.rate,
    way.bits,
    way.dither === 'before' ? 'before' : null,
    way.codec,
    way.kbps,
  ];
  return parts.filter((p) => p !== null && p !== undefined).join(':') || MIX;
}

export function wayWords(way: Way, delivery: Delivery | null): string {
  const parts = way.rate ? [`${way.rate / 1000} kHz`] : [];
  if (way.bits) {
    const order = way.dither === 'before' ? ', dither before conversion' : ', dither last';
    parts.push(`${way.bits} bit${way.rate ? order : ''}`);
  }
  const coder = delivery?.coders.find((c) => c.codec === way.codec);
  if (way.codec) parts.push(`${coder?.title ?? way.codec} ${way.kbps} kbit/s`);
  return parts.join(', ') || 'as it stands';
}
