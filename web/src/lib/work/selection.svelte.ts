import { branches, find, isSplit, parent, stages } from '../chain';
import { declared } from '../controls';
import type { Branch, Control, Element, Kind, Place, Split, Stage, Strip } from '../types';
import { Revisions } from './revisions.svelte';

/** What is looked at and listened to: strip, stage or split, branch. */
export class Selection extends Revisions {
  stripId = $state('');
  /** The selected stage or split. */
  stageId = $state('');
  /** The band in hand of a stage that has bands. */
  bandIndex = $state(0);
  /** The selected branch of the selected split, if one is. */
  branchId = $state('');
  /** More stages that were chosen beside the selected one, to be split together. */
  chosen = $state.raw<string[]>([]);
  /** More strips that were chosen beside the selected one. */
  strips = $state.raw<string[]>([]);
  /** Splits that are drawn closed. */
  closed = $state.raw<string[]>([]);
  scope = $state<'stage' | 'chain'>('stage');
  alone = $state(false);
  hearKey = $state(false);

  get strip(): Strip | null {
    return this.model?.strips.find((s) => s.id === this.stripId) ?? null;
  }

  get element(): Element | null {
    return this.strip ? find(this.strip.chain, this.stageId) : null;
  }

  get stage(): Stage | null {
    const found = this.element;
    return found && !isSplit(found) ? found : null;
  }

  get split(): Split | null {
    const found = this.element;
    return found && isSplit(found) ? found : null;
  }

  get branch(): Branch | null {
    return this.split?.branches.find((b) => b.id === this.branchId) ?? null;
  }

  get kind(): Kind | null {
    return this.stage ? (this.kinds[this.stage.kind] ?? null) : null;
  }

  /** Where pictures and figures look: a stage, or the whole chain. */
  get at(): string {
    if (this.scope !== 'stage' || !this.element) return 'chain';
    if (this.hearKey && this.stage) return `key:${this.stage.id}`;
    return this.branch?.id ?? this.element.id;
  }

  /** How a control is declared. */
  declared(place: Place): Control | null {
    return this.model ? declared(this.catalogue, this.model, place) : null;
  }

  /** Takes strips together with the selected one, up to another in the list. */
  takeStrips(to: string): void {
    const rows = [...document.querySelectorAll<HTMLElement>('[data-strip]')].map(
      (r) => r.dataset.strip ?? '',
    );
    const [a, b] = [rows.indexOf(this.stripId), rows.indexOf(to)];
    if (a < 0 || b < 0) return;
    this.strips = rows.slice(Math.min(a, b), Math.max(a, b) + 1);
  }

  /** Takes one more strip, downwards or upwards, or one less. */
  takeStrip(by: number): void {
    const rows = [...document.querySelectorAll<HTMLElement>('[data-strip]')].map(
      (r) => r.dataset.strip ?? '',
    );
    const at = rows.indexOf(this.stripId);
    const ends = this.strips.map((s) => rows.indexOf(s));
    const far = ends.length ? (Math.min(...ends) < at ? Math.min(...ends) : Math.max(...ends)) : at;
    const to = rows[Math.min(Math.max(far + by, 0), rows.length - 1)];
    if (to) this.takeStrips(to);
  }

  /** The strips that an act for several means: those taken together, or the selected one. */
  get together(): Strip[] {
    const ids = this.strips.length ? this.strips : [this.stripId];
    return (this.model?.strips ?? []).filter((s) => ids.includes(s.id));
  }

  select(strip: string, stage?: string): void {
    this.leaving();
    this.strips = [];
    this.stripId = strip;
    const chain = this.model?.strips.find((s) => s.id === strip)?.chain ?? [];
    const all = stages(chain);
    const telling = all.find((s) => this.kinds[s.kind]?.level_line) ?? chain[0];
    this.choose(stage ?? telling?.id ?? '');
  }

  /** Selects a stage, a split, or a branch of a split. */
  choose(id: string, branch = ''): void {
    this.leaving();
    if (this.stageId !== id) this.bandIndex = 0;
    this.stageId = id;
    this.branchId = branch;
    this.chosen = [];
    this.hearKey = false;
    this.listen();
    this.fresh += 1;
  }

  listen(): void {
    const alone = this.alone || this.hearKey || this.branchId !== '';
    const where = { strip: this.stripId || null, at: this.at, alone };
    this.live.send({ type: 'listen', ...where });
  }

  listenToKey(on: boolean): void {
    if (on && !this.stage) return;
    this.hearKey = on;
    this.listen();
  }

  setScope(scope: 'stage' | 'chain'): void {
    this.scope = scope;
    this.listen();
    this.fresh += 1;
  }

  setAlone(alone: boolean): void {
    this.alone = alone;
    this.listen();
  }

  /** What is in trial for the selected stage is put back. */
  protected leaving(): void {}

  protected override arrived(): void {
    super.arrived();
    const strips = this.state?.model.strips ?? [];
    if (!strips.some((s) => s.id === this.stripId)) this.select(strips[0]?.id ?? '');
    const chain = strips.find((s) => s.id === this.stripId)?.chain ?? [];
    if (!find(chain, this.stageId)) this.choose(chain[0]?.id ?? '');
    if (this.branchId && !branches(chain).some((b) => b.id === this.branchId)) this.branchId = '';
  }

  /** Opens or closes the drawing of a split. */
  fold(split: string): void {
    this.closed = this.closed.includes(split)
      ? this.closed.filter((s) => s !== split)
      : [...this.closed, split];
  }

  isOpen = (split: string): boolean => !this.closed.includes(split);

  /** The split around the selected stage, if it stands on a branch. */
  get around(): Split | null {
    const strip = this.strip;
    if (!strip || !this.stage) return null;
    const stage = this.stage.id;
    const branch = branches(strip.chain).find((b) => b.chain.some((e) => e.id === stage));
    return branch ? parent(strip, branch.id) : null;
  }
}
