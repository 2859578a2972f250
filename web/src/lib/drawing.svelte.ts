import { untrack } from 'svelte';
import { api } from './api';
import type { Stage, StageDrawing } from './types';
import type { Work } from './work.svelte';

type Part = StageDrawing extends infer D ? (D extends D ? keyof D : never) : never;
type With<P extends Part> = Extract<StageDrawing, Record<P, unknown>>;

/** What the server draws for a stage's settings, also while one is in hand: the selected one's. */
export class Drawing {
  private drawing = $state.raw<StageDrawing | null>(null);
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

  /** A part of what is drawn, where there is one already and this kind has it. */
  part<P extends Part>(name: P): With<P>[P] | undefined {
    const { drawing } = this;
    return drawing && name in drawing ? (drawing as With<P>)[name] : undefined;
  }

  private async load(): Promise<void> {
    const { model, rate } = this.work;
    const stage = this.of();
    if (this.asking || !stage) return;
    this.asking = true;
    const sent = JSON.stringify(stage.params);
    try {
      const answer = await api.drawing(stage.kind, stage.params, model?.bpm ?? null, rate);
      this.drawing = answer.drawing;
    } catch {
      // a value in hand that cannot be used yet; the refusal is shown when it is let go
    }
    this.asking = false;
    const now = this.of();
    if (now && JSON.stringify(now.params) !== sent) void this.load();
  }
}
