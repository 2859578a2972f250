import { home } from '../../lib/chain';
import type { Edit, Element, Extent } from '../../lib/types';
import type { Work } from '../../lib/work.svelte';

export interface Spot {
  place: string;
  index: number;
}

/** What is being carried or added on the score. */
export class Score {
  adding = $state.raw<(Spot & { x: number; y: number }) | null>(null);
  carried = $state.raw<{ id: string; fromX: number; fromY: number; moved: boolean } | null>(null);
  target = $state.raw<Spot | null>(null);
  /** A recipe that is tried, and where. */
  tried = $state.raw<{ name: string; extent: Extent } | null>(null);

  constructor(private work: Work) {}

  isTarget(spot: Spot): boolean {
    const { target } = this;
    return !!this.carried?.moved && target?.place === spot.place && target.index === spot.index;
  }

  /** Where on a stave what is tried stands: the first stage that it replaces or comes before, and
   * how many it replaces. */
  triedOn(place: string, chain: Element[]): { index: number; gone: number } | null {
    const extent = this.tried?.extent;
    if (!extent) return null;
    const ids = chain.map((e) => e.id);
    if (extent.kind === 'element') {
      const index = ids.indexOf(extent.owner);
      return index < 0 ? null : { index, gone: 1 };
    }
    if (extent.owner !== place) return null;
    if (extent.kind !== 'stretch') return { index: 0, gone: ids.length };
    const index = extent.after ? ids.indexOf(extent.after) + 1 : 0;
    const end = extent.before ? ids.indexOf(extent.before) : ids.length;
    return { index, gone: Math.max(end - index, 0) };
  }

  lift(id: string, event: PointerEvent): void {
    this.carried = { id, fromX: event.clientX, fromY: event.clientY, moved: false };
  }

  drag(event: PointerEvent): void {
    const { carried } = this;
    if (!carried) return;
    const far = Math.hypot(event.clientX - carried.fromX, event.clientY - carried.fromY) > 6;
    if (far && !carried.moved) this.carried = { ...carried, moved: true };
    if (far || carried.moved) this.target = nearest(event.clientX, event.clientY);
  }

  drop(): void {
    const { carried, target } = this;
    this.carried = null;
    this.target = null;
    if (carried?.moved && target) void this.put(carried.id, target);
  }

  put(id: string, spot: Spot): Promise<void> {
    const strip = this.work.strip;
    const from = strip ? home(strip, id) : null;
    if (!from) return Promise.resolve();
    const old = from.chain.findIndex((e) => e.id === id);
    const same = from.place === spot.place;
    const index = same && spot.index > old ? spot.index - 1 : spot.index;
    if (same && index === old) return Promise.resolve();
    return this.work.edit({ type: 'move_stage', stage: id, place: spot.place, index });
  }

  /** Moves a stage along its stave, or to the stave above or below. */
  step(id: string, key: string): void {
    const strip = this.work.strip;
    const from = strip ? home(strip, id) : null;
    if (!from) return;
    const old = from.chain.findIndex((e) => e.id === id);
    if (key === 'ArrowLeft' && old > 0) void this.put(id, { place: from.place, index: old - 1 });
    if (key === 'ArrowRight' && old < from.chain.length - 1) {
      void this.put(id, { place: from.place, index: old + 2 });
    }
    if (key !== 'ArrowUp' && key !== 'ArrowDown') return;
    const places = [...document.querySelectorAll<HTMLElement>('[data-stave]')]
      .filter((s) => !s.closest(`[data-stage="${id}"]`))
      .map((s) => s.dataset.stave ?? '');
    const next = places[places.indexOf(from.place) + (key === 'ArrowDown' ? 1 : -1)];
    if (next) void this.put(id, { place: next, index: 0 });
  }

  async add(edit: Edit): Promise<void> {
    this.adding = null;
    const ids = (): Set<string> =>
      new Set(
        [...document.querySelectorAll<HTMLElement>('[data-stage]')].map(
          (e) => e.dataset.stage ?? '',
        ),
      );
    const known = ids();
    await this.work.edit(edit);
    await new Promise((done) => setTimeout(done));
    const fresh = [...ids()].find((id) => !known.has(id));
    if (!fresh) return;
    this.work.choose(fresh);
    document.querySelector<HTMLElement>(`[data-stage="${fresh}"] [data-focus]`)?.focus();
  }
}

/** The gap nearest to a point, on the stave at its height. */
function nearest(x: number, y: number): Spot | null {
  let best: Spot | null = null;
  let least = 200;
  for (const gap of document.querySelectorAll<HTMLElement>('[data-gap]')) {
    const box = gap.getBoundingClientRect();
    const up = y < box.top ? box.top - y : y > box.bottom ? y - box.bottom : 0;
    const far = Math.abs(x - (box.left + box.right) / 2) + 6 * up;
    if (far < least) {
      least = far;
      best = { place: gap.dataset.place ?? '', index: Number(gap.dataset.gap) };
    }
  }
  return best;
}
