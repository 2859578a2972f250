import { untrack } from 'svelte';
import { api } from './api';
import type { Work } from './work.svelte';

/** What the server draws for the selected stage's settings, also while one is in hand. */
export class Drawing {
  numbers = $state.raw<Record<string, unknown>>({});
  private asking = false;

  /** To be made while a component starts, so that it ends with it. */
  constructor(private work: Work) {
    $effect(() => {
      void [JSON.stringify(work.stage?.params), work.stageId];
      untrack(() => void this.load());
    });
  }

  private async load(): Promise<void> {
    const { stage, model, rate } = this.work;
    if (this.asking || !stage) return;
    this.asking = true;
    const sent = JSON.stringify(stage.params);
    try {
      const { numbers } = await api.drawing(stage.kind, stage.params, model?.bpm ?? null, rate);
      this.numbers = numbers;
    } catch {
      // a value in hand that cannot be used yet; the refusal is shown when it is let go
    }
    this.asking = false;
    const now = this.work.stage;
    if (now && JSON.stringify(now.params) !== sent) void this.load();
  }
}
