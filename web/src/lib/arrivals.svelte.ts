import { api, bringIn, openBundle, Refusal } from './api';
import type { Live } from './live.svelte';
import type { SessionState } from './types';
import type { Cues } from './work.svelte';

/** A file on its way in. share: of the way; said: what became of it. */
export interface Coming {
  name: string;
  share: number;
  said: string;
}

interface Hooks {
  current: () => SessionState | null;
  /** What a new session is to be called, empty for the first file's name. */
  title: () => string;
  opened: (state: SessionState, refused?: string | null, cues?: Cues | null) => void;
  /** There are other sessions now. */
  changed: () => Promise<void>;
}

export function said(error: unknown): string {
  return error instanceof Refusal ? error.message : String(error);
}

/** Files that are brought in: audio into a session, a bundle as one of its own. */
export class Arrivals {
  coming = $state<Coming[]>([]);
  busy = $state('');
  problem = $state<string | null>(null);

  constructor(
    private live: Live,
    private hooks: Hooks,
  ) {
    $effect(() =>
      live.onEvent((event) => {
        if (event.type !== 'brought_in') return;
        const item = this.coming.find((c) => c.name === event.name);
        if (item) item.share = 0.5 + event.progress / 2;
      }),
    );
  }

  /** A bundle is a session of its own. */
  private async open(file: File): Promise<void> {
    this.problem = null;
    this.coming = [{ name: file.name, share: 0, said: '' }];
    const item = this.coming[0] as Coming;
    this.busy = `Taking the recordings of ${file.name} in`;
    try {
      const state = await openBundle(file, (share) => (item.share = share));
      this.coming = [];
      this.hooks.opened(state);
    } catch (error) {
      item.said = 'not opened';
      this.problem = said(error);
    }
    this.busy = '';
    await this.hooks.changed();
  }

  /** Files go into the open session, or into a new one named after the first. */
  async take(files: File[]): Promise<void> {
    const bundled = files.find((f) => f.name.toLowerCase().endsWith('.zip'));
    if (bundled) {
      if (files.length === 1) await this.open(bundled);
      else this.problem = `${bundled.name} is a bundle: open it by itself.`;
      return;
    }
    this.problem = null;
    const current = this.hooks.current();
    let state = current;
    try {
      state ??= await api.newSession(
        this.hooks.title() || (files[0]?.name ?? 'New session').replace(/\.[^.]*$/, ''),
        null,
      );
    } catch (error) {
      this.problem = String(error);
      return;
    }
    this.live.send({ type: 'open', session: state.id });
    this.coming = files.map((f) => ({ name: f.name, share: 0, said: 'waiting' }));
    let taken = 0;
    let cues: Cues | null = null;
    for (const [index, file] of files.entries()) {
      const item = this.coming[index];
      if (!item) continue;
      item.said = '';
      try {
        const answer = await bringIn(state.id, file, (share) => (item.share = share / 2));
        state = answer.state;
        if (answer.markers.length > (cues?.markers.length ?? 0))
          cues = { file: file.name, markers: answer.markers };
        item.share = 1;
        item.said = answer.said ?? 'brought in';
        taken += 1;
      } catch (error) {
        item.said = said(error);
        this.problem = this.problem ? `${this.problem} ${item.said}` : item.said;
      }
    }
    await this.hooks.changed();
    // What is good is opened; what was refused is said there.
    if (taken > 0) this.hooks.opened(state, this.problem, cues);
    else if (taken === 0 && !current) {
      await api.removeSession(state.id);
      await this.hooks.changed();
    }
  }
}
