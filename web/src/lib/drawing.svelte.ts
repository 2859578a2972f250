import { untrack } from 'svelte';
import { api } from './api';
import type { Stage, StageDrawing } from './types';
import type { Work } from './work.svelte';
import { newest } from './newest';

type Part = StageDrawing extends infer D ? (D extends D ? keyof D : never) : never;
type With<P extends Part> = Extract<StageDrawing, Record<P, unknown>>;

/** What the server draws for a stage's settings, also while one is in hand. */
export class Drawing {
  private drawing = $state.raw<StageDrawing | null>(null);

  /** To be made while a component starts, so that it ends with it. */
  constructor(
    private work: Work,
    private of: () => Stage | null,
  ) {
    $effect(() => {
      void [JSON.stringify(of()?.params), of()?.id];
      untrack(this.load);
    });
  }

  /** A part of what is drawn, where there is one already and this kind has it. */
  part<P extends Part>(name: P): With<P>[P] | undefined {
    const { drawing } = this;
    return drawing && name in drawing ? (drawing as With<P>)[name] : undefined;
  }

  /** A value in hand that cannot be used yet has no drawing; the refusal is shown when it is let go. */
  private load = newest(async () => {
    const { model, rate } = this.work;
    const stage = this.of();
    if (!stage) return;
    const answer = await api.drawing(stage.kind, stage.params, model?.bpm ?? null, rate);
    this.drawing = answer.drawing;
  });
}
