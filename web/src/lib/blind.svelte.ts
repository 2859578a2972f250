import { api } from './api';
import type { Compare } from './compare.svelte';
import type { Heard, Trial } from './types';
import type { Work } from './work.svelte';

/** Letters behind which what is compared is hidden; X is one of the first two. */
export const LETTERS = ['P', 'Q', 'U', 'V', 'W'] as const;
export type Letter = (typeof LETTERS)[number] | 'X';

/** A blind test: settings in a shuffled order behind neutral letters. */
export class Blind {
  kind = $state<Trial['kind']>('match');
  /** The ledger gives its place to the test. */
  open = $state(false);
  /** What takes part. */
  choices = $state<Heard[]>([]);
  rounds = $state(12);
  /** Under way, or uncovered. */
  stage = $state<'idle' | 'asking' | 'done'>('idle');
  hearing = $state<Letter | null>(null);
  round = $state(0);
  /** Somebody asked to stop: is that meant? */
  leaving = $state(false);
  result = $state.raw<Trial | null>(null);
  /** Scores that guessing seldom reaches, and how likely each is. */
  table = $state.raw<[number, number][]>([]);
  private order = $state.raw<Heard[]>([]);
  private x: Heard = 'in';
  private right = 0;
  private picked = new Map<Heard, number>();
  private revision = 0;

  constructor(
    private work: Work,
    private compare: Compare,
  ) {}

  get running(): boolean {
    return this.stage === 'asking';
  }

  /** The letters that can be heard. */
  get letters(): Letter[] {
    const shown = LETTERS.slice(0, this.choices.length);
    return this.kind === 'match' ? ['P', 'X', 'Q'] : [...shown];
  }

  /** The letters that can be the answer. */
  get answers(): Letter[] {
    return [...LETTERS.slice(0, this.choices.length)];
  }

  /** What may take part: the settings that there are, and what goes in. */
  get known(): Heard[] {
    return ['in', ...this.compare.letters];
  }

  /** What keeps a test from being begun, in words. */
  get problem(): string | null {
    const { choices, compare } = this;
    if (choices.length < 2) return 'choose what to compare: two at least';
    if (this.kind === 'match' && choices.length !== 2) return 'X is matched against two';
    const silent = choices.find((c) => compare.row(c)?.plays_db === null);
    if (silent) return `${silent} is not measured yet, or silent here`;
    return null;
  }

  /** Begins where all that there is can take part. */
  prepare(): void {
    const { compare } = this;
    this.open = true;
    const letters = compare.letters;
    this.choices = letters.length > 1 ? [...letters] : ['in', ...letters];
    this.kind = this.choices.length === 2 ? 'match' : 'pick';
    this.stage = 'idle';
    this.result = null;
    this.explain();
  }

  toggle(what: Heard): void {
    this.choices = this.choices.includes(what)
      ? this.choices.filter((c) => c !== what)
      : this.known.filter((c) => c === what || this.choices.includes(c));
    this.explain();
  }

  explain(): void {
    const choices = this.kind === 'match' ? 2 : Math.max(this.choices.length, 2);
    void api
      .guessing(this.rounds, choices)
      .then((table) => (this.table = table))
      .catch(() => undefined);
  }

  async begin(): Promise<void> {
    // What was done last may still be being stored: its revision is what is tested.
    await this.work.settled();
    if (this.problem || this.running) return;
    this.round = 1;
    this.right = 0;
    this.picked = new Map(this.choices.map((c) => [c, 0]));
    this.result = null;
    this.leaving = false;
    this.revision = this.work.state?.revision ?? 0;
    this.order = shuffled(this.choices);
    this.stage = 'asking';
    this.compare.match();
    this.compare.cover(true);
    this.shuffle();
  }

  hear(letter: Letter): void {
    const what = letter === 'X' ? this.x : this.order[this.answers.indexOf(letter)];
    if (!this.running || !what) return;
    this.hearing = letter;
    this.compare.hear(what);
  }

  answer(letter: Letter): void {
    const what = this.order[this.answers.indexOf(letter)];
    if (!this.running || !what) return;
    if (this.kind === 'match') this.right += what === this.x ? 1 : 0;
    else this.picked.set(what, (this.picked.get(what) ?? 0) + 1);
    if (this.round >= this.rounds) this.finish(this.round);
    else {
      this.round += 1;
      this.shuffle();
    }
  }

  /** Uncovers after the rounds that were played. */
  uncover(): void {
    if (this.running && this.round > 1) this.finish(this.round - 1);
    else this.stop();
  }

  stop(): void {
    this.stage = 'idle';
    this.leaving = false;
    this.hearing = null;
    this.compare.cover(false);
    this.compare.rest();
  }

  /** Something else was done to the session: what was heard is no longer what stands. */
  watch(revision: number): void {
    if (this.running && revision !== this.revision) this.stop();
  }

  private shuffle(): void {
    if (this.kind === 'match') this.x = this.order[below(2)] ?? 'in';
    else this.order = shuffled(this.choices);
    this.hear(this.letters[0] ?? 'P');
  }

  private finish(rounds: number): void {
    const best = [...this.picked].sort((a, b) => b[1] - a[1])[0];
    const match = this.kind === 'match';
    const { extent } = this.compare;
    this.stop();
    this.stage = 'done';
    if (!extent) return;
    const trial = {
      extent,
      kind: this.kind,
      choices: [...this.choices],
      rounds,
      right: match ? this.right : (best?.[1] ?? 0),
      best: match ? null : (best?.[0] ?? null),
      early: rounds < this.rounds,
      at: Date.now() / 1000,
    };
    void this.work.edit({ type: 'keep_trial', ...trial }).then(() => {
      const kept = this.work.model?.trials ?? [];
      this.result = kept[kept.length - 1] ?? null;
    });
  }

  /** What each letter was, for the last round of a match. */
  get uncovered(): [Letter, Heard][] {
    return this.answers.flatMap((letter, i): [Letter, Heard][] => {
      const what = this.order[i];
      return what ? [[letter, what]] : [];
    });
  }
}

function below(count: number): number {
  const random = crypto.getRandomValues(new Uint32Array(1));
  return (random[0] ?? 0) % count;
}

function shuffled<T>(items: T[]): T[] {
  const found = [...items];
  for (let i = found.length - 1; i > 0; i--) {
    const j = below(i + 1);
    const [a, b] = [found[i], found[j]];
    if (a === undefined || b === undefined) continue;
    found[i] = b;
    found[j] = a;
  }
  return found;
}
