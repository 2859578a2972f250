import { api, Refusal } from './api';
import { home, isSplit, splitTitle } from './chain';
import { place, type Compare } from './compare.svelte';
import type { Live } from './live.svelte';
import { newest } from './newest';
import type { CompareRow, Comparison, Edit, Extent, LibraryItem } from './types';
import type { Work } from './work.svelte';

type Apply = Extract<Edit, { type: 'apply_recipe' }>;

/** Where a recipe goes. */
export type Place = 'spot' | 'after' | 'instead' | 'end' | 'chain' | 'strip';

/** Recipes: found, tried in the loop at the same loudness, kept, brought in and out. */
export class Library {
  open = $state(false);
  items = $state.raw<LibraryItem[]>([]);
  query = $state('');
  tags = $state.raw<string[]>([]);
  /** What is tried; without it, what stands is heard. */
  trying = $state<string | null>(null);
  /** A key source for each named input of what is tried. */
  inputs = $state<Record<string, string>>({});
  wanted = $state<Place>('after');
  /** A place on the stave that was pointed at. */
  spot = $state.raw<Extent | null>(null);
  saving = $state(false);
  /** What was let go, to be brought back. */
  gone = $state.raw<LibraryItem | null>(null);
  answer = $state.raw<Comparison | null>(null);
  /** Loudness in the loop of what was tried, by what and where it is. */
  known = $state.raw<Record<string, number>>({});
  /** Everything that was tried here plays at this, so that stepping on changes no level. */
  private common = 0;
  private heard = '';
  private scope: 'stage' | 'chain' = 'stage';
  private same = false;

  constructor(
    private work: Work,
    private live: Live,
    private compare: Compare,
  ) {
    live.onEvent((event) => {
      if (event.type === 'compared' && event.session === work.state?.id) this.load();
    });
  }

  /** Every tag, the commonest first. */
  readonly everyTag: string[] = $derived.by(() => {
    const count: Record<string, number> = {};
    for (const tag of this.items.flatMap((item) => item.tags)) count[tag] = (count[tag] ?? 0) + 1;
    return Object.keys(count).sort((a, b) => (count[b] ?? 0) - (count[a] ?? 0));
  });

  readonly shown: LibraryItem[] = $derived.by(() => {
    const words = this.query.toLowerCase().split(/\s+/).filter(Boolean);
    return this.items.filter((item) => {
      const text = `${item.name} ${item.note} ${item.words} ${item.tags.join(' ')}`.toLowerCase();
      return words.every((w) => text.includes(w)) && this.tags.every((t) => item.tags.includes(t));
    });
  });

  readonly item: LibraryItem | null = $derived(
    this.items.find((item) => item.id === this.trying) ?? null,
  );

  /** The places that there are for what is tried, with their words. */
  readonly places: [Place, string][] = $derived.by(() => {
    const { work, item } = this;
    const found: [Place, string][] = [];
    if (this.spot) found.push(['spot', 'at the place pointed at']);
    if (work.element) {
      const { element } = work;
      const title = isSplit(element) ? splitTitle(element) : (work.kind?.title ?? element.kind);
      found.push(['after', `after ${title}`], ['instead', `instead of ${title}`]);
    }
    found.push(['end', 'at the end'], ['chain', 'instead of the chain']);
    if (item?.what === 'strip') found.push(['strip', 'instead of the strip, with its levels']);
    return found;
  });

  readonly place: Place = $derived(
    this.places.some(([place]) => place === this.wanted)
      ? this.wanted
      : (this.places[0]?.[0] ?? 'end'),
  );

  readonly extent: Extent | null = $derived.by(() => {
    const { strip, element } = this.work;
    if (!strip) return null;
    if (this.place === 'spot') return this.spot;
    if (this.place === 'chain' || this.place === 'strip') return place(this.place, strip.id);
    if (this.place === 'instead' && element) return place('element', element.id);
    const found = element && home(strip, element.id);
    if (this.place === 'after' && found) {
      const next = found.chain[found.chain.findIndex((e) => e.id === element.id) + 1];
      return place('stretch', found.place, element.id, next?.id ?? null);
    }
    return place('stretch', strip.id, strip.chain[strip.chain.length - 1]?.id ?? null);
  });

  /** Names that are not bound yet. */
  readonly unbound: string[] = $derived(
    (this.item?.inputs ?? []).filter((name) => !this.inputs[name]),
  );

  readonly edit: Apply | null = $derived.by(() => {
    const { item, extent } = this;
    if (!item || item.problem || !extent || this.unbound.length) return null;
    const recipe = item.recipe;
    return { type: 'apply_recipe', extent, recipe, inputs: { ...this.inputs } };
  });

  /** What is tried, and where, for the stave. */
  readonly stands: { name: string; extent: Extent } | null = $derived(
    this.open && this.item && this.extent && this.edit
      ? { name: this.item.name, extent: this.extent }
      : null,
  );

  row(slot: string): CompareRow | null {
    return this.answer?.rows.find((r) => r.slot === slot) ?? null;
  }

  async show(spot: Extent | null = null): Promise<void> {
    this.spot = spot;
    if (spot) this.wanted = 'spot';
    // What is tried is heard where the chain ends.
    if (!this.open) {
      this.scope = this.work.scope;
      this.same = this.live.same.on;
    }
    this.work.setScope('chain');
    this.open = true;
    this.compare.open = false;
    this.live.same.on = true;
    await this.asked(() => this.refresh());
  }

  /** What stands is about to be kept. */
  async showSaving(): Promise<void> {
    await this.show();
    this.saving = true;
  }

  async refresh(): Promise<void> {
    this.items = await api.recipes();
  }

  close(): void {
    if (!this.open) return;
    this.try(null);
    this.hear();
    this.forget();
    this.open = this.saving = false;
    this.spot = null;
    this.work.setScope(this.scope);
    this.live.same.on = this.same;
  }

  try(id: string | null): void {
    this.trying = id;
    this.saving = false;
    const strips = this.work.model?.strips.filter((s) => s.id !== this.work.stripId) ?? [];
    // An input is guessed by its name; the longest name that fits is the nearest.
    const guess = (name: string): string => {
      const like = strips.filter((s) => {
        const [a, b] = [s.name.toLowerCase(), name.toLowerCase()];
        return a.includes(b) || b.includes(a);
      });
      const nearest = like.sort((a, b) => a.name.length - b.name.length)[0];
      return nearest ? `strip:${nearest.id}` : '';
    };
    this.inputs = Object.fromEntries((this.item?.inputs ?? []).map((n) => [n, guess(n)]));
  }

  /** The recipe before, the next; in between, what stands. */
  step(by: number): void {
    const ids: (string | null)[] = [null, ...this.shown.map((item) => item.id)];
    const at = ids.indexOf(this.trying);
    this.try(ids[(Math.max(at, 0) + by + ids.length) % ids.length] ?? null);
  }

  /** Lets what is tried be heard, and has it measured. */
  hear(): void {
    const text = JSON.stringify(this.edit);
    if (text === this.heard) return;
    this.heard = text;
    this.answer = null;
    this.live.send({ type: 'preview', edits: this.edit ? [this.edit] : [] });
    if (!this.edit) this.compare.level(this.compare.chosen);
    this.load();
  }

  load = newest(async () => {
    const { work, live, compare, edit } = this;
    const of = compare.extent;
    if (!this.open || !work.state || !of || !edit || work.frames === 0) return;
    const [begin, end] = live.transport.loop ?? [0, work.frames];
    const wish = { extent: of, against: compare.chosen, at: 'chain', in_mix: !work.alone };
    this.answer = await api.compare(work.state.id, { ...wish, begin, end, tried: edit });
    this.level();
  }, 300);

  /** The gains that make what is tried as loud as what was tried before it. */
  private level(): void {
    const tried = this.row('tried');
    const before = this.row('in');
    const [out, into] = [tried?.figures?.integrated_lufs, before?.figures?.integrated_lufs];
    if (out == null || tried?.plays_db == null || into == null || !this.trying) return;
    this.common = Math.min(this.common, out + tried.plays_db);
    this.known = { ...this.known, [this.trying]: out };
    this.compare.play(this.common - into, this.common - out);
  }

  /** What something that was tried plays at, in dB. */
  plays(id: string): number | null {
    const level = this.known[id];
    return level === undefined ? null : this.common - level;
  }

  /** Another passage, another strip: what was measured says nothing any more. */
  forget(): void {
    this.known = {};
    this.common = 0;
    this.heard = '';
  }

  async keep(): Promise<void> {
    const edit = this.edit;
    if (!edit) return;
    await this.work.edit(edit);
    this.close();
  }

  async save(name: string, note: string, tags: string[]): Promise<void> {
    const { work, compare } = this;
    if (!work.state || !compare.extent) return;
    await this.asked(async (session) => {
      const wish = { extent: compare.extent!, name, note, tags };
      const made = await api.keepRecipe(session, wish);
      await this.refresh();
      this.saving = false;
      this.query = '';
      this.tags = [];
      this.try(made.id);
    });
  }

  async bringIn(file: File): Promise<void> {
    const text = await file.text();
    await this.asked(async () => {
      const made = await api.bringRecipe(text);
      await this.refresh();
      this.try(made.id);
    }, `${file.name} was not taken: `);
  }

  async remove(item: LibraryItem): Promise<void> {
    await this.asked(async () => {
      await api.removeRecipe(item.id);
      this.gone = item.problem ? null : item;
      this.try(null);
      await this.refresh();
    });
  }

  async bringBack(): Promise<void> {
    const item = this.gone;
    this.gone = null;
    if (!item) return;
    await this.asked(async () => {
      const made = await api.bringRecipe(JSON.stringify(item.recipe));
      await this.refresh();
      this.try(made.id);
    });
  }

  async rename(item: LibraryItem, name: string, note: string, tags: string[]): Promise<void> {
    await this.asked(async () => {
      await api.changeRecipe(item.id, { name, note, tags });
      await this.refresh();
      this.saving = false;
    });
  }

  private async asked(act: (session: number) => Promise<void>, words = ''): Promise<void> {
    try {
      await act(this.work.state?.id ?? 0);
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      this.work.problem = words + error.message;
    }
  }
}
