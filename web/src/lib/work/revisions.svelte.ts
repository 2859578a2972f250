import { api, Refusal } from '../api';
import { isSplit, splitTitle } from '../chain';
import { applied } from '../drafts';
import type { Live } from '../live.svelte';
import type { Catalogue, Edit, Element, Kind, Session, SessionState } from '../types';

const UNTOLD = { revision: 0, shares: {} };

/** The session as the server confirmed it, what is in somebody's hand, and how it is changed. */
export class Revisions {
  state = $state.raw<SessionState | null>(null);
  catalogue = $state.raw<Catalogue>({ kinds: [], controls: {}, starting_points: {} });
  readonly kinds: Record<string, Kind> = $derived(
    Object.fromEntries(this.catalogue.kinds.map((k) => [k.kind, k])),
  );
  /** What a stage or a split is called. */
  readonly titleOf = (element: Element): string =>
    isSplit(element) ? splitTitle(element) : (this.kinds[element.kind]?.title ?? element.kind);
  problem = $state<string | null>(null);
  /** What was told of the background pass; the telling may be here before the revision is. */
  protected passed = $state.raw<{ revision: number; shares: Record<string, number> }>(UNTOLD);
  /** How far the background pass over each strip is, 0 to 1. */
  readonly analysed: Record<string, number> = $derived(
    this.passed.revision === this.state?.revision ? this.passed.shares : {},
  );
  /** Rises whenever pictures and figures may have changed. */
  fresh = $state(0);
  /** What is in hand and not stored yet, one edit a control. */
  protected held = $state.raw<Record<string, Edit>>({});
  readonly model: Session | null = $derived(
    this.state ? applied(this.state.model, Object.values(this.held)) : null,
  );
  private sending: Promise<void> = Promise.resolve();
  private previewTimer = 0;
  /** Edits that are being stored: they stay in hand until the answer, and are not sent again. */
  private onTheWay = new Set<Edit>();

  constructor(protected live: Live) {}

  get rate(): number {
    return this.model?.rate ?? 48000;
  }

  get frames(): number {
    return this.state?.frames ?? 0;
  }

  edit(...edits: Edit[]): Promise<void> {
    return this.change((at) => api.edit(at.id, at.revision, edits));
  }

  /** When all that was done so far is stored. */
  settled(): Promise<void> {
    return this.sending;
  }

  undo(): Promise<void> {
    return this.change((at) => api.undo(at.id));
  }

  redo(): Promise<void> {
    return this.change((at) => api.redo(at.id));
  }

  /** Does one thing after the other, so that no answer is overtaken by an older one. */
  change(ask: (at: SessionState) => Promise<SessionState>): Promise<void> {
    return this.inTurn(async (at) => {
      const next = await ask(at);
      this.problem = null;
      return next;
    });
  }

  private inTurn(ask: (at: SessionState) => Promise<SessionState>): Promise<void> {
    this.sending = this.sending.then(() => this.takeFrom(ask));
    return this.sending;
  }

  private async takeFrom(ask: (at: SessionState) => Promise<SessionState>): Promise<void> {
    if (!this.state) return;
    const { id } = this.state;
    try {
      const next = await ask(this.state);
      if (next.id === this.state.id) this.take(next);
    } catch (error) {
      this.problem = error instanceof Refusal ? error.message : String(error);
      const kept = await api.session(id).catch(() => null);
      this.held = {};
      if (kept) this.take(kept);
      this.live.send({ type: 'preview', edits: [] });
    }
  }

  take(state: SessionState): void {
    this.state = state;
    this.held = Object.fromEntries(
      Object.entries(this.held).filter(([key]) => !key.startsWith('lever:')),
    );
    this.arrived();
    this.fresh += 1;
  }

  /** Another state of the session is there: what points into it follows. */
  protected arrived(): void {}

  /** The session has another revision; if this page made it, it is here by now. What was said
   *  to the hand before stands. */
  protected refresh(revision: number): void {
    void this.inTurn((at) => (at.revision === revision ? Promise.resolve(at) : api.session(at.id)));
  }

  protected take_in_hand(key: string, edit: Edit): void {
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
    const fresh = Object.entries(this.held).filter(([, edit]) => !this.onTheWay.has(edit));
    const sent = Object.fromEntries(fresh);
    const edits = Object.values(sent);
    if (edits.length === 0) return;
    for (const edit of edits) this.onTheWay.add(edit);
    await this.edit(...edits);
    for (const edit of edits) this.onTheWay.delete(edit);
    this.held = Object.fromEntries(Object.entries(this.held).filter(([k, e]) => sent[k] !== e));
  }
}

/** What is written of a lane holds on while the hand is on the control. */
function lasting(edit: Edit): Edit {
  if (edit.type !== 'write_lane') return edit;
  const last = edit.points[edit.points.length - 1];
  if (!last) return edit;
  return { ...edit, points: [...edit.points, { ...last, at_s: last.at_s + 30 }] };
}
