import { untrack } from 'svelte';
import { api } from './api';
import type { Stage } from './types';
import type { Work } from './work.svelte';

/** What the server draws for a stage's settings, also while one is in hand: the selected one's. */
export class Drawing {
  numbers = $state.raw<Record<string, unknown>>({});
  private asking = false;

  /** To be made while a component starts, so that it ends with it. */
  constructor(
    private work: Work,
    private of: () => Stage | null = () => work.stage,
  ) {
    $effect(() => {
      void [JSON.stringify(of()?.params), of()?.id];
      untrack(() => void this.load());
    });
  }

  private async load(): Promise<void> {
    const { model, rate } = this.work;
    const stage = this.of();
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
    const now = this.of();
    if (now && JSON.stringify(now.params) !== sent) void this.load();
  }
}
