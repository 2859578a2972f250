import { api, Refusal } from './api';
import { branches, find, isSplit, parent, stages } from './chain';
import { declared } from './controls';
import { applied } from './drafts';
import { barFrames, snapped } from './sections';
import type { Live } from './live.svelte';
import type {
  Branch,
  Catalogue,
  Control,
  Edit,
  Element,
  Kind,
  Lane,
  Marker,
  ParamValue,
  Params,
  Place,
  Point,
  Session,
  SessionState,
  Split,
  Stage,
  StartingPoint,
  Strip,
  BandRecord,
} from './types';

/** Cue points of a file that was brought in. */
export interface Cues {
  file: string;
  markers: Marker[];
}

/** The session in work: what the server confirmed, and what is in somebody's hand. */
export class Work {
  state = $state.raw<SessionState | null>(null);
  catalogue = $state.raw<Catalogue>({ kinds: [], controls: {} });
  readonly kinds: Record<string, Kind> = $derived(
    Object.fromEntries(this.catalogue.kinds.map((k) => [k.kind, k])),
  );
  points = $state.raw<Record<string, StartingPoint[]>>({});
  lanes = $state.raw<Lane[]>([]);
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
  /** The control whose automation lies over the time strip. */
  lane = $state.raw<Place | null>(null);
  /** The section whose name is being typed, -1 for none. */
  namingSection = $state(-1);
  /** Whether controls moved during play leave automation behind. */
  writing = $state(false);
  problem = $state<string | null>(null);
  /** Cue points that could become sections: offered, never taken unasked. */
  cues = $state.raw<Cues | null>(null);
  /** How far the background pass over each strip is, 0 to 1. */
  analysed = $state<Record<string, number>>({});
  /** Rises whenever pictures and figures may have changed. */
  fresh = $state(0);
  /** What is in hand and not stored yet, one edit a control. */
  private held = $state.raw<Record<string, Edit>>({});
  readonly model: Session | null = $derived(
    this.state ? applied(this.state.model, Object.values(this.held)) : null,
  );
  private trying: { stage: string; from: Params; index: number } | null = $state.raw(null);
  private sending: Promise<void> = Promise.resolve();
  private previewTimer = 0;

  constructor(private live: Live) {
    live.onEvent((event) => {
      if (event.type === 'analysed' && event.session === this.state?.id) {
        const share = event.frames > 0 ? event.done / event.frames : 1;
        this.analysed = { ...this.analysed, [event.strip]: share };
        if (event.strip === this.stripId) this.fresh += 1;
      }
      if (event.type === 'changed' && event.session === this.state?.id)
        this.refresh(event.revision);
      if (event.type === 'refused') this.problem = event.text;
      if (event.type === 'lever_moved') {
        const { lever, value } = event;
        this.held = { ...this.held, [`lever:${lever}`]: { type: 'set_lever', lever, value } };
      }
    });
  }

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

  get rate(): number {
    return this.model?.rate ?? 48000;
  }

  get frames(): number {
    return this.state?.frames ?? 0;
  }

  get tried(): StartingPoint | null {
    const points = this.points[this.stage?.kind ?? ''];
    return this.trying ? (points?.[this.trying.index] ?? null) : null;
  }

  async open(state: SessionState): Promise<void> {
    if (this.catalogue.kinds.length === 0) {
      this.catalogue = await api.catalogue();
      for (const kind of this.catalogue.kinds) {
        this.points = { ...this.points, [kind.kind]: await api.startingPoints(kind.kind) };
      }
    }
    this.analysed = {};
    this.held = {};
    this.lane = null;
    this.cues = null;
    this.state = state;
    void this.loadLanes();
    this.live.send({ type: 'open', session: state.id });
    const first = state.model.strips.find((s) => s.kind === 'track') ?? state.model.strips[0];
    if (first) this.select(first.id);
  }

  /** Lets the session go, because it is no longer there. */
  close(why: string): void {
    this.state = null;
    this.held = {};
    this.lanes = [];
    this.lane = null;
    this.stripId = this.stageId = this.branchId = '';
    this.problem = why;
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
    this.dropTrying();
    this.strips = [];
    this.stripId = strip;
    this.tidyLane();
    const chain = this.model?.strips.find((s) => s.id === strip)?.chain ?? [];
    const all = stages(chain);
    const telling = all.find((s) => this.kinds[s.kind]?.level_line) ?? chain[0];
    this.choose(stage ?? telling?.id ?? '');
  }

  /** Selects a stage, a split, or a branch of a split. */
  choose(id: string, branch = ''): void {
    this.dropTrying();
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

  // What is in hand -----------------------------------------------------------------------------

  /** A parameter of the selected stage in hand: heard at once, stored when it is let go. */
  hold(name: string, value: ParamValue): void {
    if (this.stage) this.holdParam(this.stage.id, name, value);
  }

  holdParam(stage: string, name: string, value: ParamValue): void {
    this.trying = null;
    const key = `params:${stage}`;
    const before = this.held[key];
    const params = { ...(before?.type === 'set_params' ? before.params : {}), [name]: value };
    const edit: Edit = { type: 'set_params', stage, params, whole: false };
    if (!this.steered({ owner: stage, control: name }, value)) this.take_in_hand(key, edit);
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

  holdCorners(split: string, crossovers_hz: number[]): void {
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

  private take_in_hand(key: string, edit: Edit): void {
    this.held = { ...this.held, [key]: edit };
    this.preview();
  }

  private preview(): void {
    if (this.previewTimer) return;
    this.previewTimer = window.setTimeout(() => {
      this.previewTimer = 0;
      const edits = Object.values(this.held).map(lasting);
      if (edits.length) this.live.send({ type: 'preview', edits });
    }, 16);
  }

  /** Stores what is in hand as one gesture; what is taken in hand meanwhile stays there. */
  async drop(): Promise<void> {
    const sent = this.held;
    const edits = Object.values(sent);
    if (edits.length === 0) return;
    await this.edit(...edits);
    this.held = Object.fromEntries(Object.entries(this.held).filter(([k, e]) => sent[k] !== e));
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

  // Automation ----------------------------------------------------------------------------------

  pointsOf(place: Place): Point[] | null {
    const { owner, control } = place;
    const all = this.state?.model.automation ?? [];
    return all.find((a) => a.owner === owner && a.control === control)?.points ?? null;
  }

  /** How a control is declared. */
  declared(place: Place): Control | null {
    return this.model ? declared(this.catalogue, this.model, place) : null;
  }

  laneOf(owner: string, control: string): Lane | null {
    return this.lanes.find((l) => l.owner === owner && l.control === control) ?? null;
  }

  /** Where a moving control stands at the playhead, null if it does not move by itself. */
  moving(owner: string, control: string): number | null {
    const lane = this.laneOf(owner, control);
    if (!lane || this.held[`lane:${owner}:${control}`]) return null;
    const last = lane.values.length - 1;
    const at = (this.live.frame / Math.max(this.frames, 1)) * last;
    const index = Math.min(Math.max(Math.floor(at), 0), last);
    const a = lane.values[index] ?? 0;
    const b = lane.values[Math.min(index + 1, last)] ?? a;
    return a + (b - a) * Math.min(Math.max(at - index, 0), 1);
  }

  /** Whether a moved control goes into its automation instead of its setting. */
  private steered(place: Place, value: ParamValue): boolean {
    const { owner, control } = place;
    const lever = this.laneOf(owner, control)?.lever;
    if (lever) {
      const by = this.model?.levers.find((l) =>
        l.moves.some((m) => m.owner === owner && m.control === control),
      );
      this.problem = `This control is moved by the lever ${by?.name ?? ''}.`;
      return true;
    }
    const points = this.pointsOf(place);
    const playing = this.live.transport.playing;
    if (typeof value !== 'number' || (!points && !(this.writing && playing))) return false;
    const key = `lane:${owner}:${control}`;
    const now = this.live.frame / this.rate;
    if (!playing && points) {
      const at = Math.max(
        points.findLastIndex((p) => p.at_s <= now + 1e-6),
        0,
      );
      const moved = points.map((p, i) => (i === at ? { ...p, value } : p));
      this.take_in_hand(key, { type: 'set_lane', owner, control, points: moved });
      return true;
    }
    const before = this.held[key];
    const written = before?.type === 'write_lane' ? before.points : [];
    const at_s = Math.max(now, (written[written.length - 1]?.at_s ?? 0) + 0.001);
    const point: Point = { at_s, value, shape: 'straight' };
    this.take_in_hand(key, { type: 'write_lane', owner, control, points: [...written, point] });
    return true;
  }

  private async loadLanes(): Promise<void> {
    const at = this.state;
    if (!at) return;
    if (at.model.automation.length === 0 && at.model.levers.length === 0) {
      this.lanes = [];
      return;
    }
    const found = await api.lanes(at.id).catch(() => null);
    if (found && this.state === at) this.lanes = found;
  }

  // Changes -------------------------------------------------------------------------------------

  edit(...edits: Edit[]): Promise<void> {
    return this.change((at) => api.edit(at.id, at.revision, edits));
  }

  undo(): Promise<void> {
    return this.change((at) => api.undo(at.id));
  }

  redo(): Promise<void> {
    return this.change((at) => api.redo(at.id));
  }

  /** Does one thing after the other, so that no answer is overtaken by an older one. */
  change(ask: (at: SessionState) => Promise<SessionState>): Promise<void> {
    this.sending = this.sending.then(() => this.changeNow(ask));
    return this.sending;
  }

  private async changeNow(ask: (at: SessionState) => Promise<SessionState>): Promise<void> {
    if (!this.state) return;
    const { id } = this.state;
    try {
      const next = await ask(this.state);
      if (next.id === this.state.id) this.take(next);
      this.problem = null;
    } catch (error) {
      this.problem = error instanceof Refusal ? error.message : String(error);
      const kept = await api.session(id).catch(() => null);
      this.held = {};
      if (kept) this.take(kept);
      this.live.send({ type: 'preview', edits: [] });
    }
  }

  take(state: SessionState): void {
    if (state.revision !== this.state?.revision) this.analysed = {};
    this.state = state;
    const strips = state.model.strips;
    if (!strips.some((s) => s.id === this.stripId)) this.select(strips[0]?.id ?? '');
    const chain = strips.find((s) => s.id === this.stripId)?.chain ?? [];
    if (!find(chain, this.stageId)) this.choose(chain[0]?.id ?? '');
    this.tidyLane();
    if (this.branchId && !branches(chain).some((b) => b.id === this.branchId)) this.branchId = '';
    this.held = Object.fromEntries(
      Object.entries(this.held).filter(([key]) => !key.startsWith('lever:')),
    );
    void this.loadLanes();
    this.fresh += 1;
  }

  /** Automation closes with what it belongs to: the strip that is left, the stage that is gone. */
  private tidyLane(): void {
    const owner = this.lane?.owner;
    const strip = this.strip;
    if (!owner || this.model?.levers.some((l) => l.id === owner)) return;
    const here = strip && [strip.id, ...branches(strip.chain).map((b) => b.id)];
    if (!strip || !(here?.includes(owner) || find(strip.chain, owner))) this.lane = null;
  }

  /** The session has another revision; if this page made it, it is here by now. */
  private refresh(revision: number): void {
    void this.change((at) => (at.revision === revision ? Promise.resolve(at) : api.session(at.id)));
  }

  // Starting points: step through, keep or go back -------------------------------------------

  tryPoint(step: number): void {
    const stage = this.stage;
    const points = this.points[stage?.kind ?? ''] ?? [];
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

  // Words for the panel -----------------------------------------------------------------------

  applies(control: Control, params: Params | BandRecord): boolean {
    return Object.entries(control.when).every(([name, values]) =>
      values.includes(String(params[name])),
    );
  }
}

/** What is written of a lane holds on while the hand is on the control. */
function lasting(edit: Edit): Edit {
  if (edit.type !== 'write_lane') return edit;
  const last = edit.points[edit.points.length - 1];
  if (!last) return edit;
  return { ...edit, points: [...edit.points, { ...last, at_s: last.at_s + 30 }] };
}
