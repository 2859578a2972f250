import { api, Refusal } from './api';
import type { Live } from './live.svelte';
import type {
  Control,
  Edit,
  Kind,
  ParamValue,
  Params,
  Session,
  SessionState,
  Stage,
  StartingPoint,
  Strip,
} from './types';

/** The session in work: what the server confirmed, and what is in somebody's hand. */
export class Work {
  state = $state.raw<SessionState | null>(null);
  kinds = $state.raw<Record<string, Kind>>({});
  points = $state.raw<Record<string, StartingPoint[]>>({});
  stripId = $state('');
  stageId = $state('');
  scope = $state<'stage' | 'chain'>('stage');
  alone = $state(false);
  problem = $state<string | null>(null);
  /** How far the background pass over each strip is, 0 to 1. */
  analysed = $state<Record<string, number>>({});
  /** Rises whenever pictures and figures may have changed. */
  fresh = $state(0);
  /** Parameters in hand: stage to values, not stored yet. */
  private draft = $state.raw<Record<string, Params>>({});
  private stripDraft = $state.raw<Record<string, Partial<Strip>>>({});
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
    });
  }

  get model(): Session | null {
    return this.state?.model ?? null;
  }

  get strip(): Strip | null {
    const found = this.model?.strips.find((s) => s.id === this.stripId);
    return found ? { ...found, ...this.stripDraft[found.id] } : null;
  }

  get stage(): Stage | null {
    const found = this.strip?.chain.find((s) => s.id === this.stageId) ?? null;
    if (!found) return null;
    const draft = this.draft[found.id];
    return draft ? { ...found, params: { ...found.params, ...draft } } : found;
  }

  get kind(): Kind | null {
    return this.stage ? (this.kinds[this.stage.kind] ?? null) : null;
  }

  /** Where pictures and figures look: a stage, or the whole chain. */
  get at(): string {
    return this.scope === 'stage' && this.stage ? this.stage.id : 'chain';
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

  stripShown(strip: Strip): Strip {
    const draft = this.stripDraft[strip.id];
    return draft ? { ...strip, ...draft } : strip;
  }

  async open(state: SessionState): Promise<void> {
    if (Object.keys(this.kinds).length === 0) {
      const kinds = await api.catalogue();
      this.kinds = Object.fromEntries(kinds.map((k) => [k.kind, k]));
      for (const kind of kinds) {
        this.points = { ...this.points, [kind.kind]: await api.startingPoints(kind.kind) };
      }
    }
    this.analysed = {};
    this.state = state;
    this.live.send({ type: 'open', session: state.id });
    const first = state.model.strips.find((s) => s.kind === 'track') ?? state.model.strips[0];
    if (first) this.select(first.id);
  }

  select(strip: string, stage?: string): void {
    this.dropTrying();
    this.stripId = strip;
    const chain = this.model?.strips.find((s) => s.id === strip)?.chain ?? [];
    const telling = chain.find((s) => this.kinds[s.kind]?.listens) ?? chain[0];
    this.stageId = stage ?? telling?.id ?? '';
    this.listen();
    this.fresh += 1;
  }

  listen(): void {
    const where = { strip: this.stripId || null, at: this.at, alone: this.alone };
    this.live.send({ type: 'listen', ...where });
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

  /** A control in hand: heard at once, stored when it is let go. */
  hold(name: string, value: ParamValue): void {
    const stage = this.stage;
    if (!stage) return;
    this.trying = null;
    this.draft = { ...this.draft, [stage.id]: { ...this.draft[stage.id], [name]: value } };
    this.preview();
  }

  holdStrip(strip: string, change: Partial<Strip>): void {
    this.stripDraft = { ...this.stripDraft, [strip]: { ...this.stripDraft[strip], ...change } };
    this.preview();
  }

  private preview(): void {
    if (this.previewTimer) return;
    this.previewTimer = window.setTimeout(() => {
      this.previewTimer = 0;
      const edits = this.draftEdits();
      if (edits.length) this.live.send({ type: 'preview', edits });
    }, 16);
  }

  private draftEdits(): Edit[] {
    const edits: Edit[] = [];
    for (const [stage, params] of Object.entries(this.draft)) {
      edits.push({ type: 'set_params', stage, params, whole: false });
    }
    for (const [strip, change] of Object.entries(this.stripDraft)) {
      for (const [field, value] of Object.entries(change)) {
        edits.push({ type: 'set_strip', strip, field, value } as Edit);
      }
    }
    return edits;
  }

  /** Stores what is in hand as one gesture; what is taken in hand meanwhile stays there. */
  async drop(): Promise<void> {
    const edits = this.draftEdits();
    if (edits.length === 0) return;
    const stages = this.draft;
    const strips = this.stripDraft;
    await this.edit(...edits);
    this.draft = without(this.draft, stages);
    this.stripDraft = without(this.stripDraft, strips);
  }

  set(name: string, value: ParamValue): Promise<void> {
    this.hold(name, value);
    return this.drop();
  }

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
      this.draft = {};
      this.stripDraft = {};
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
    if (!chain.some((s) => s.id === this.stageId)) {
      this.stageId = chain[0]?.id ?? '';
      this.listen();
    }
    this.fresh += 1;
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
    this.draft = { ...this.draft, [stage.id]: points[index]?.params as Params };
    this.preview();
  }

  async keepTrying(): Promise<void> {
    const point = this.tried;
    const stage = this.trying?.stage;
    this.trying = null;
    if (!point || !stage) return;
    this.draft = {};
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
    this.draft = {};
    this.live.send({ type: 'preview', edits: [] });
  }

  // Words for the panel -----------------------------------------------------------------------

  applies(control: Control, params: Params): boolean {
    return Object.entries(control.when).every(([name, values]) =>
      values.includes(String(params[name])),
    );
  }
}

/** What is held of `now` that is not as it was in `sent`. */
function without<T extends object>(
  now: Record<string, T>,
  sent: Record<string, T>,
): Record<string, T> {
  const kept: Record<string, T> = {};
  for (const [owner, values] of Object.entries(now)) {
    const old = sent[owner] as Record<string, unknown> | undefined;
    const left = Object.entries(values).filter(([name, value]) => !old || old[name] !== value);
    if (left.length) kept[owner] = Object.fromEntries(left) as T;
  }
  return kept;
}
