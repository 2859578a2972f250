import { api, bringReference, Refusal } from './api';
import { newest } from './newest';
import type { Live } from './live.svelte';
import type { Figures } from './types';
import type { Work } from './work.svelte';

/** A recording that is only compared with: heard while a key is held, as loud as the mix. */
export class Reference {
  chosen = $state('');
  figures = $state.raw<Record<string, Figures>>({});
  /** Of the main bus, over the same passage as the ledger. */
  mix = $state.raw<Figures | null>(null);
  heard = $state(false);
  coming = $state<number | null>(null);
  /** Its figures stand beside those of the mix. */
  open = $state(false);
  private element: HTMLAudioElement | null = null;
  private context: AudioContext | null = null;

  constructor(
    private work: Work,
    private live: Live,
  ) {}

  readonly all = $derived.by(() => this.work.model?.references ?? []);
  readonly one = $derived.by(
    () => this.all.find((r) => r.id === this.chosen) ?? this.all[this.all.length - 1] ?? null,
  );

  /** Gains in dB that make both as loud as the quieter one; nothing is turned up. */
  readonly gains = $derived.by(() => {
    const [mix, own] = [this.mix?.integrated_lufs, this.figures[this.one?.id ?? '']];
    const level = own?.integrated_lufs;
    if (mix == null || level == null) return null;
    return { mix: Math.min(level - mix, 0), reference: Math.min(mix - level, 0) };
  });

  /** What there is to know of the reference and of the mix beside it. */
  load = newest(async () => {
    const { state, frames, model } = this.work;
    const main = model?.strips.find((s) => s.kind === 'main');
    const one = this.one;
    if (!state || !one || !main || frames === 0) return;
    if (!this.figures[one.id]) {
      const found = await api.referenceFigures(state.id, one.id);
      this.figures = { ...this.figures, [one.id]: found };
    }
    const [begin, end] = this.live.transport.loop ?? [0, frames];
    this.mix = (await api.ledger(state.id, main.id, 'chain', begin, end)).ledger?.after ?? null;
  }, 400);

  async bringIn(file: File): Promise<void> {
    const { work } = this;
    if (!work.state) return;
    this.coming = 0;
    try {
      // Every tab is told of the change, this one too.
      await bringReference(work.state.id, file, (share) => (this.coming = share));
      this.chosen = '';
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      work.problem = error.message;
    }
    this.coming = null;
  }

  /** While both are looked at, the mix comes down to a reference that is quieter. */
  level(): void {
    const gains = this.live.same.on ? this.gains : null;
    const own = this.open ? 10 ** ((gains?.mix ?? 0) / 20) : 1;
    const other = 10 ** ((gains?.reference ?? 0) / 20);
    this.live.beside(this.heard ? 0 : own, this.heard ? other : 0);
  }

  /** Heard as long as it is held, from where it was left. */
  async hold(on: boolean): Promise<void> {
    if (on === this.heard) return;
    const { work, live, one } = this;
    if (on && (!work.state || !one)) return;
    this.heard = on;
    if (on) await live.start(work.rate);
    const element = this.ready();
    if (!element) return;
    this.level();
    if (this.heard) await element.play().catch(() => undefined);
    else element.pause();
  }

  /** The element that plays, for the context that there is. */
  private ready(): HTMLAudioElement | null {
    const { live, work, one } = this;
    if (!live.context || !work.state || !one) return this.element;
    const address = `/api/sessions/${work.state.id}/references/${one.id}/audio`;
    if (!this.element || this.context !== live.context) {
      this.element?.pause();
      this.element = new Audio();
      this.element.loop = true;
      this.context = live.context;
      live.playBeside(this.element);
    }
    if (!this.element.src.endsWith(address)) this.element.src = address;
    return this.element;
  }
}
