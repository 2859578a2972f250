import { api } from './api';
import type { Live } from './live.svelte';
import type { SessionState } from './types';
import { Gestures } from './work/gestures.svelte';

export type { Cues, Movable } from './work/gestures.svelte';

/** The session in work: opened and closed, and told what others do to it. */
export class Work extends Gestures {
  constructor(live: Live) {
    super(live);
    live.onEvent((event) => {
      if (event.type === 'analysed' && event.session === this.state?.id) {
        const share = event.frames > 0 ? event.done / event.frames : 1;
        const before = event.revision === this.passed.revision ? this.passed.shares : {};
        const shares = { ...before, [event.strip]: share };
        this.passed = { revision: event.revision, shares };
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

  async open(state: SessionState): Promise<void> {
    if (this.catalogue.kinds.length === 0) this.catalogue = await api.catalogue();
    this.passed = { revision: 0, shares: {} };
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
}
