import { api } from './api';
import type { Live } from './live.svelte';
import { find, isSplit } from './chain';
import { figure } from './figures';
import { newest } from './newest';
import type { Comparison, CompareRow, Edit, Extent, Heard, Params, Slot } from './types';
import type { Work } from './work.svelte';

export const SLOTS: Slot[] = ['A', 'B', 'C', 'D'];
/** What settings can be of, from the smallest. */
export const KINDS = ['stage', 'stretch', 'chain', 'strip'] as const;
export type ExtentKind = (typeof KINDS)[number];

/** Settings A to D of what is selected: chosen, copied, measured, heard at the same loudness. */
export class Compare {
  /** The panel shows them side by side. */
  open = $state(false);
  /** What was asked for; a stage that is not there becomes the chain. */
  wanted = $state<ExtentKind>('stage');
  against = $state<Slot>('A');
  answer = $state.raw<Comparison | null>(null);
  /** Of what the answer is. */
  private of = $state('');

  constructor(
    private work: Work,
    private live: Live,
  ) {
    live.onEvent((event) => {
      if (event.type === 'compared' && event.session === work.state?.id) this.load();
    });
  }

  get kind(): ExtentKind {
    if (this.wanted === 'stretch' && !this.stretch) return 'chain';
    if (this.wanted === 'stage' && !this.work.element) return 'chain';
    return this.wanted;
  }

  /** Kinds that what is selected does not have. */
  get missing(): ExtentKind[] {
    const found: ExtentKind[] = [];
    if (!this.work.element) found.push('stage');
    if (!this.stretch) found.push('stretch');
    return found;
  }

  readonly extent: Extent | null = $derived.by(() => {
    const { stripId, element } = this.work;
    if (!stripId) return null;
    if (this.kind === 'stage' && element) return place('element', element.id);
    if (this.kind === 'stretch') return this.stretch;
    return place(this.kind === 'strip' ? 'strip' : 'chain', stripId);
  });

  /** The stages taken together on the stave, or a stretch that has settings already. */
  get stretch(): Extent | null {
    const { strip, chosen, element } = this.work;
    if (!strip) return null;
    const ids = strip.chain.map((e) => e.id);
    const at = chosen.map((id) => ids.indexOf(id)).filter((i) => i >= 0);
    if (at.length > 1) {
      const [first, last] = [Math.min(...at), Math.max(...at)];
      return place('stretch', strip.id, ids[first - 1] ?? null, ids[last + 1] ?? null);
    }
    const inside = element ? ids.indexOf(element.id) : -1;
    const known = (this.work.model?.settings ?? []).filter(
      (s) => s.extent.kind === 'stretch' && s.extent.owner === strip.id,
    );
    const around = known.find(({ extent }) => {
      const begin = extent.after ? ids.indexOf(extent.after) : -1;
      const end = extent.before ? ids.indexOf(extent.before) : ids.length;
      return inside > begin && inside < end;
    });
    return (around ?? known[0])?.extent ?? null;
  }

  private get settings() {
    const text = JSON.stringify(this.extent);
    return this.work.model?.settings.find((s) => JSON.stringify(s.extent) === text) ?? null;
  }

  get chosen(): Slot {
    return this.settings?.chosen ?? 'A';
  }

  get letters(): Slot[] {
    const held = this.settings?.held ?? {};
    return SLOTS.filter((s) => s === this.chosen || s in held);
  }

  name(slot: Slot): string {
    return this.settings?.names[slot] ?? '';
  }

  row(slot: string): CompareRow | null {
    if (this.of !== JSON.stringify(this.extent)) return null;
    return this.answer?.rows.find((r) => r.slot === slot) ?? null;
  }

  /** What a stage is set to in the other settings of the extent. */
  heldParams(stage: string): [Slot, Params][] {
    return SLOTS.flatMap((slot): [Slot, Params][] => {
      const setting = this.settings?.held[slot];
      const found = setting && find(setting.strip?.chain ?? setting.chain, stage);
      return found && !isSplit(found) && slot !== this.chosen ? [[slot, found.params]] : [];
    });
  }

  /** What is heard at the moment: before, or a letter. */
  get heard(): Heard {
    return (this.live.held ?? this.live.side) === 'in' ? 'in' : this.chosen;
  }

  choose(slot: Slot): void {
    if (!this.extent) return;
    if (this.live.side === 'in') this.live.hear('out');
    const edit: Edit = { type: 'choose_settings', extent: this.extent, slot };
    // Heard before it is stored, and at its own level.
    this.live.send({ type: 'preview', edits: [edit] });
    this.level(slot);
    void this.work.edit(edit);
  }

  /** Hears a letter, or what goes in, without a trace on the page. */
  hear(what: Heard): void {
    if (!this.extent) return;
    const slot = what === 'in' ? this.chosen : what;
    const edits: Edit[] = [{ type: 'choose_settings', extent: this.extent, slot }];
    this.live.send({ type: 'preview', edits: slot === this.chosen ? [] : edits });
    this.level(slot);
    this.live.hear(what === 'in' ? 'in' : 'out');
  }

  /** Lets what is heard be what stands again. */
  rest(): void {
    this.live.send({ type: 'preview', edits: [] });
    this.level(this.chosen);
    this.live.hear('out');
  }

  copy(source: Slot, target: Slot): void {
    if (this.extent)
      void this.work.edit({ type: 'copy_settings', extent: this.extent, source, target });
  }

  clear(slot: Slot): void {
    if (this.extent) void this.work.edit({ type: 'clear_settings', extent: this.extent, slot });
  }

  rename(slot: Slot, name: string): void {
    if (!this.extent || name === this.name(slot)) return;
    void this.work.edit({ type: 'name_settings', extent: this.extent, slot, name });
  }

  /** The gains that make what goes in and a letter equally loud; nothing is turned up. */
  level(slot: Slot): void {
    this.play(this.row('in')?.plays_db ?? null, this.row(slot)?.plays_db ?? null);
  }

  /** What the same loudness does at the moment, in words; nothing while it is not wanted. */
  get matched(): string {
    if (!this.live.same.on) return '';
    const [before, after] = [this.row('in')?.plays_db, this.row(this.chosen)?.plays_db];
    if (before == null || after == null) return 'not measured yet';
    const gap = after - before;
    if (Math.abs(gap) < 0.05) return 'as loud by itself';
    return `${gap < 0 ? 'out' : 'in'} ${figure(Math.abs(gap), 1)} dB down`;
  }

  /** Plays what goes in and what comes out with these gains, if the same loudness is wanted. */
  play(before: number | null, after: number | null): void {
    const { live, work } = this;
    // What is not measured yet is left as it is: better than a jump.
    if (live.same.on && (before === null || after === null)) return;
    const gains = live.same.on
      ? { before: before ?? 0, after: after ?? 0 }
      : { before: 0, after: 0 };
    const none = { before: 0, after: 0 };
    Object.assign(live.same, work.alone ? gains : none);
    const { before: before_db, after: after_db } = work.alone ? none : gains;
    live.send({ type: 'same_loudness', before_db, after_db });
    live.blend();
  }

  /** Nothing but loudness may tell them apart. */
  match(): void {
    this.live.same.on = true;
  }

  /** Whether what plays is hidden from the eye. */
  cover(on: boolean): void {
    this.live.covered = on;
  }

  /** Measured while somebody wants to know. */
  get watched(): boolean {
    return this.open || this.live.same.on || this.letters.length > 1;
  }

  load = newest(async () => {
    const { work, live, extent } = this;
    const { state, frames, at, alone } = work;
    if (!state || !extent || frames === 0 || !this.watched) return;
    const [begin, end] = live.transport.loop ?? [0, frames];
    const wish = { extent, against: this.against, at, in_mix: !alone, begin, end };
    this.answer = await api.compare(state.id, wish);
    this.of = JSON.stringify(extent);
  }, 400);
}

/** A place that settings or a recipe can be of. */
export function place(
  kind: Extent['kind'],
  owner: string,
  after: string | null = null,
  before: string | null = null,
): Extent {
  return { kind, owner, after, before };
}
