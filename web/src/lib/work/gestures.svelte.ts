import { isSplit } from '../chain';
import { barFrames, snapped } from '../sections';
import type {
  BandRecord,
  Control,
  Edit,
  Element,
  Marker,
  Params,
  ParamValue,
  StartingPoint,
} from '../types';
import { Automation } from './automation.svelte';

/** Cue points of a file that was brought in. */
export interface Cues {
  file: string;
  markers: Marker[];
}

/** A declared control that may move by itself: what a slider or a number of it shows and does. */
export interface Movable {
  control: Control;
  /** Where it stands at the playhead, null if it does not move by itself. */
  now: number | null;
  moves: boolean;
  /** Lays its automation over the time strip. */
  open: () => void;
  drop: () => void;
}

/** What a hand does: controls, sections, starting points. */
export class Gestures extends Automation {
  /** The section whose name is being typed, -1 for none. */
  namingSection = $state(-1);
  /** Cue points that could become sections: offered, never taken unasked. */
  cues = $state.raw<Cues | null>(null);
  private trying: { stage: string; from: Params; index: number } | null = $state.raw(null);

  get tried(): StartingPoint | null {
    const points = this.catalogue.starting_points[this.stage?.kind ?? ''];
    return this.trying ? (points?.[this.trying.index] ?? null) : null;
  }

  /** A parameter of the selected stage in hand: heard at once, stored when it is let go. */
  hold(name: string, value: ParamValue): void {
    if (this.stage) this.holdParam(this.stage.id, name, value);
  }

  holdParam(stage: string, name: string, wanted: ParamValue): void {
    this.trying = null;
    const value = Array.isArray(wanted) ? this.steeredWithin(stage, name, wanted) : wanted;
    if (value === null) return;
    const key = `params:${stage}`;
    const before = this.held[key];
    const params = { ...(before?.type === 'set_params' ? before.params : {}), [name]: value };
    const edit: Edit = { type: 'set_params', stage, params, whole: false };
    if (!this.steered({ owner: stage, control: name }, value)) this.take_in_hand(key, edit);
  }

  movable(owner: string, control: string): Movable | null {
    const declared = this.declared({ owner, control });
    return (
      declared && {
        control: declared,
        now: this.moving(owner, control),
        moves: this.laneOf(owner, control) !== null,
        open: () => (this.lane = { owner, control }),
        drop: () => void this.drop(),
      }
    );
  }

  holdStrip(strip: string, field: 'fader_db' | 'trim_db' | 'pan', value: number): void {
    if (this.steered({ owner: strip, control: field }, value)) return;
    this.take_in_hand(`strip:${strip}:${field}`, { type: 'set_strip', strip, field, value });
  }

  holdSend(strip: string, to: string, gain_db: number): void {
    if (this.steered({ owner: strip, control: `send:${to}` }, gain_db)) return;
    this.take_in_hand(`send:${strip}:${to}`, { type: 'set_send', strip, to, gain_db });
  }

  holdMix(element: Element, mix: number): void {
    if (this.steered({ owner: element.id, control: 'mix' }, mix)) return;
    const edit: Edit = isSplit(element)
      ? { type: 'set_split', split: element.id, mix }
      : { type: 'set_stage', stage: element.id, mix };
    this.take_in_hand(`mix:${element.id}`, edit);
  }

  holdPosition(owner: string, position: number, bus = false): void {
    if (this.steered({ owner, control: 'position' }, position)) return;
    const edit: Edit = bus
      ? { type: 'set_bus_join', strip: owner, position }
      : { type: 'set_split', split: owner, position };
    this.take_in_hand(`position:${owner}`, edit);
  }

  holdCorners(split: string, wanted: number[]): void {
    const crossovers_hz = this.steeredWithin(split, 'crossovers_hz', wanted) as number[] | null;
    if (crossovers_hz)
      this.take_in_hand(`corners:${split}`, { type: 'set_split', split, crossovers_hz });
  }

  holdBranch(branch: string, gain_db: number): void {
    if (this.steered({ owner: branch, control: 'gain_db' }, gain_db)) return;
    this.take_in_hand(`branch:${branch}`, { type: 'set_branch', branch, gain_db });
  }

  holdLever(lever: string, value: number): void {
    if (this.steered({ owner: lever, control: 'value' }, value)) return;
    this.take_in_hand(`lever:${lever}`, { type: 'set_lever', lever, value });
  }

  set(name: string, value: ParamValue): Promise<void> {
    this.hold(name, value);
    return this.drop();
  }

  // Sections ------------------------------------------------------------------------------------

  /** Makes a section at the bar nearest to a frame, to be named at once. */
  async addSection(frame: number): Promise<void> {
    const model = this.model;
    if (!model || this.frames === 0) return;
    const start = snapped(frame, barFrames(model), !model.bpm);
    await this.edit({ type: 'add_section', start_s: start / model.rate });
    const sections = this.model?.sections ?? [];
    this.namingSection = sections.findIndex((s) => Math.abs(s.start_s * model.rate - start) <= 1);
  }

  /** Makes the offered cue points sections, in one step. */
  takeCues(): Promise<void> {
    const markers = this.cues?.markers ?? [];
    this.cues = null;
    return this.edit(
      ...markers.map((m): Edit => ({
        type: 'add_section',
        start_s: m.at_s,
        ...(m.name ? { name: m.name } : {}),
      })),
    );
  }

  // Starting points: step through, keep or go back -------------------------------------------

  protected override leaving(): void {
    super.leaving();
    this.dropTrying();
  }

  tryPoint(step: number): void {
    const stage = this.stage;
    const points = this.catalogue.starting_points[stage?.kind ?? ''] ?? [];
    if (!stage || points.length === 0) return;
    const from = this.trying?.from ?? stage.params;
    const start = this.trying ? this.trying.index : step > 0 ? -1 : 0;
    const index = (start + step + points.length) % points.length;
    this.trying = { stage: stage.id, from, index };
    this.take_in_hand(`params:${stage.id}`, {
      type: 'set_params',
      stage: stage.id,
      params: points[index]?.params as Params,
      whole: false,
    });
  }

  async keepTrying(): Promise<void> {
    const point = this.tried;
    const stage = this.trying?.stage;
    this.trying = null;
    if (!point || !stage) return;
    this.held = {};
    await this.edit({
      type: 'set_params',
      stage,
      params: point.params as Params,
      whole: true,
      words: `starting point “${point.name}”`,
    });
  }

  dropTrying(): void {
    if (!this.trying) return;
    this.trying = null;
    this.held = {};
    this.live.send({ type: 'preview', edits: [] });
  }

  applies(control: Control, params: Params | BandRecord): boolean {
    return Object.entries(control.when).every(([name, values]) =>
      values.includes(String(params[name])),
    );
  }
}
