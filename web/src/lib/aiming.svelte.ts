import { api, Refusal } from './api';
import { figure } from './figures';
import type { Live } from './live.svelte';
import { Marking } from './marking.svelte';
import type { AimStep, Control, Edit, Wish } from './types';
import type { Work } from './work.svelte';

export type Quantity = Wish['what'];
/** What can be wanted, in words, and in what unit. */
export const QUANTITIES: Record<Quantity, [string, string]> = {
  reduction: ['reduction while it works', 'dB'],
  loudness: ['loudness at the end of the chain', 'LUFS'],
  true_peak: ['true peak at the end of the chain', 'dBTP'],
  down: ['peaks lower behind it by', 'dB'],
};
const USUAL: Record<Quantity, number> = { reduction: 4, loudness: -14, true_peak: -1, down: 6 };
/** What gives back what a stage takes away; the core knows the same. */
const MAKE_UPS = ['makeup_db', 'output_db'];
/** Levels in dB that are no means: a width, and what is measured. */
const NOT_AIMED = ['knee_db', 'given_back_db'];
/** Controls to begin with, if a stage has one of them. */
const TELLING = ['threshold_db', 'drive_db', 'ceiling_db', 'depth_db', 'amount_db', 'gain_db'];

/** Says what is wanted of a stage; the core finds the value. */
export class Aiming {
  open = $state(false);
  what = $state<Quantity>('reduction');
  wanted = $state(4);
  percentile = $state(95);
  /** Whether the make-up is moved as well, so that both sides are equally loud. */
  kept = $state(false);
  steps = $state.raw<AimStep[]>([]);
  /** Under way. */
  number = $state<number | null>(null);
  result = $state<string | null>(null);
  /** Until what is wanted can be typed. */
  asked = $state(false);
  readonly marking: Marking;
  private chosen = $state('');
  private passage = $state('loop');
  /** Of what the aim under way is, whatever is selected meanwhile. */
  private of = { stage: '', control: '' };
  private moved = { label: '', makeUp: null as Pick<Control, 'name' | 'label'> | null };

  constructor(
    private work: Work,
    private live: Live,
  ) {
    this.marking = new Marking(work, live);
    live.onEvent((event) => {
      if (event.type !== 'aimed' || event.number !== this.number) return;
      if (event.session === work.state?.id) this.take(event);
      else this.number = null;
    });
  }

  /** What can be wanted of what is selected: a split tells no reduction of its own. */
  readonly quantities: Quantity[] = $derived(
    (Object.keys(QUANTITIES) as Quantity[]).filter((q) => q !== 'reduction' || this.work.stage),
  );

  /** What can be moved to reach it: levels and the mix. */
  readonly controls: Pick<Control, 'name' | 'label'>[] = $derived.by(() => {
    const found = (this.work.kind?.controls ?? []).filter(
      (c) =>
        c.type === 'number' &&
        c.change === 'glide' &&
        c.unit === 'dB' &&
        !NOT_AIMED.includes(c.name),
    );
    return [...found, { name: 'mix', label: 'Mix' }];
  });

  /** The marks of a gate, while it is aimed with. */
  get marks(): Marking | null {
    return this.open && this.work.stage?.kind === 'gate' ? this.marking : null;
  }

  /** Names of what can be moved. */
  readonly names: ReadonlySet<string> = $derived(new Set(this.controls.map((c) => c.name)));

  /** The stage's make-up, if it is not itself what is moved. */
  readonly makeUp: Pick<Control, 'name' | 'label'> | null = $derived.by(
    () => this.controls.find((c) => MAKE_UPS.includes(c.name) && c.name !== this.control) ?? null,
  );

  readonly control: string = $derived.by(() => {
    const names = this.controls.map((c) => c.name);
    if (names.includes(this.chosen)) return this.chosen;
    return TELLING.find((name) => names.includes(name)) ?? 'mix';
  });

  /** Passages that there are. */
  readonly passages: [string, number, number][] = $derived.by(() => {
    const { work, live } = this;
    const { loop } = live.transport;
    const { frames, rate } = work;
    const spans = work.model?.sections ?? [];
    const found: [string, number, number][] = loop ? [['loop', ...loop]] : [];
    found.push(['song', 0, frames]);
    spans.forEach((section, i) => {
      const end = section.end_s ?? spans[i + 1]?.start_s ?? frames / rate;
      found.push([section.name, Math.round(section.start_s * rate), Math.round(end * rate)]);
    });
    return found;
  });

  /** The loop, the song, or the name of a section; the first of them where it is gone. */
  get over(): string {
    const names = this.passages.map(([name]) => name);
    return names.includes(this.passage) ? this.passage : (names[0] ?? '');
  }
  set over(name: string) {
    this.passage = name;
  }

  choose(control: string): void {
    this.chosen = control;
  }

  /** Opens it for a control, with what is usually wanted of such a one. */
  showFor(control: string): void {
    this.asked = true;
    this.chosen = control;
    if (this.number === null && (!this.open || control === 'ceiling_db')) {
      this.want(control === 'ceiling_db' ? 'true_peak' : 'reduction');
    }
    if (!this.work.stage && this.what === 'reduction') this.want('down');
    this.open = true;
    this.result = null;
    this.steps = [];
  }

  want(what: Quantity): void {
    this.what = what;
    this.wanted = USUAL[what];
  }

  show(): void {
    if (!this.work.element) return;
    if (!this.work.stage && this.what === 'reduction') this.want('down');
    this.open = this.asked = !this.open;
    this.result = null;
    this.steps = [];
  }

  async start(): Promise<void> {
    const { work } = this;
    const passage = this.passages.find(([name]) => name === this.over) ?? this.passages[0];
    if (!work.state || !work.element || !passage) return;
    this.steps = [];
    this.result = null;
    this.of = { stage: work.element.id, control: this.control };
    const { what, wanted, percentile } = this;
    const kept = what === 'down' && this.kept && this.makeUp !== null;
    const label = this.controls.find((c) => c.name === this.control)?.label ?? this.control;
    this.moved = { label, makeUp: this.makeUp };
    try {
      const { number } = await api.aim(work.state.id, {
        ...this.of,
        wish: { what, wanted, percentile, kept },
        begin: passage[1],
        end: passage[2],
      });
      this.number = number;
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      this.result = error.message;
    }
  }

  stop(): void {
    if (this.number !== null) void api.stopAim(this.number).catch(() => undefined);
  }

  private take(step: AimStep): void {
    if (!step.done) {
      this.steps = [...this.steps, step];
      return;
    }
    this.number = null;
    this.result = step.problem ?? null;
    if (step.problem) return;
    const words = `aimed at ${this.said()}`;
    const { stage, control } = this.of;
    const made = step.makeup_db ?? null;
    const params: Record<string, number> = control === 'mix' ? {} : { [control]: step.value };
    const { label, makeUp } = this.moved;
    if (makeUp && made !== null) params[makeUp.name] = made;
    const edits: Edit[] = [];
    if (control === 'mix') edits.push({ type: 'set_stage', stage, mix: step.value });
    if (Object.keys(params).length)
      edits.push({ type: 'set_params', stage, params, whole: false, words });
    void this.work.edit(...edits);
    const given = `${figure(step.got ?? 0, 2)} ${QUANTITIES[this.what][1]}`;
    const also = makeUp && made !== null ? ` and ${makeUp.label} at ${figure(made, 2)}` : '';
    this.result = `${label} is at ${figure(step.value, 2)}${also} now and gives ${given}`;
  }

  private said(): string {
    const { what, wanted, percentile } = this;
    const unit = QUANTITIES[what][1];
    return what === 'reduction' ? `${wanted} ${unit}, ${percentile} %` : `${wanted} ${unit}`;
  }
}
