import type { Branch, Element, Session, Split, Stage, Strip } from './types';

export const isSplit = (element: Element): element is Split => element.kind === 'split';

/** Every stage and split of a chain, nested ones too, in order. */
export function elements(chain: Element[]): Element[] {
  return chain.flatMap((e) =>
    isSplit(e) ? [e, ...e.branches.flatMap((b) => elements(b.chain))] : [e],
  );
}

export const stages = (chain: Element[]): Stage[] =>
  elements(chain).filter((e): e is Stage => !isSplit(e));

export const splits = (chain: Element[]): Split[] => elements(chain).filter(isSplit);

export const branches = (chain: Element[]): Branch[] => splits(chain).flatMap((s) => s.branches);

export function find(chain: Element[], id: string): Element | null {
  return elements(chain).find((e) => e.id === id) ?? null;
}

/** The strip or branch that an element stands in, with its chain. */
export function home(strip: Strip, id: string): { place: string; chain: Element[] } | null {
  const places = [{ id: strip.id, chain: strip.chain }, ...branches(strip.chain)];
  const found = places.find((p) => p.chain.some((e) => e.id === id));
  return found ? { place: found.id, chain: found.chain } : null;
}

/** The split that a branch belongs to. */
export function parent(strip: Strip, branch: string): Split | null {
  return splits(strip.chain).find((s) => s.branches.some((b) => b.id === branch)) ?? null;
}

/** How many staves a chain takes, with the open splits drawn out. */
export function rows(chain: Element[], open: (split: string) => boolean): number {
  const of = (e: Element): number =>
    isSplit(e) && open(e.id)
      ? Math.max(
          2,
          e.branches.reduce((sum, b) => sum + rows(b.chain, open), 0),
        )
      : 1;
  return Math.max(1, ...chain.map(of));
}

const WORDS = {
  copies: 'Blend',
  'mid-side': 'Mid and sides',
  'left-right': 'Left and right',
} as const;

export function splitTitle(split: Split): string {
  return split.by === 'bands' ? `${split.branches.length} bands` : WORDS[split.by];
}

/** The processor kind that all branches with stages have in common, if there is one. */
export function sharedKind(split: Split): string | null {
  const kinds = split.branches
    .flatMap((b) => b.chain.filter((e): e is Stage => !isSplit(e)))
    .map((s) => s.kind);
  const first = kinds.find((k) => k !== 'trim') ?? kinds[0];
  return first ?? null;
}

export function stageOf(branch: Branch, kind: string): Stage | null {
  return branch.chain.find((e): e is Stage => !isSplit(e) && e.kind === kind) ?? null;
}

/** The limiter with which a branch ends: what it never passes. */
export function wallOf(branch: Branch): Stage | null {
  const last = branch.chain[branch.chain.length - 1];
  return last && !isSplit(last) && last.kind === 'limiter' ? last : null;
}

/** The ceiling of a branch's wall in dB, null if it has none. */
export function ceilingOf(branch: Branch): number | null {
  const there = wallOf(branch);
  return there ? Number(there.params.ceiling_db) : null;
}

/** A key in words: whose signal a stage listens to. */
export function keyWords(stage: Stage, strips: Strip[]): string | null {
  const { source, low_hz, high_hz } = stage.key;
  const filtered = low_hz !== null || high_hz !== null;
  if (source === 'own') return filtered ? 'own, filtered' : null;
  return keyName(source ?? 'own', strips) + (filtered ? ', filtered' : '');
}

export function keyName(source: string, strips: Strip[]): string {
  const [kind, id = ''] = source.split(/:(.*)/s);
  for (const strip of strips) {
    if (kind === 'strip' && strip.id === id) return strip.name;
    const branch = branches(strip.chain).find((b) => b.id === id);
    if (kind === 'branch' && branch) return `${strip.name}, ${branch.name}`;
    const found = kind === 'stage' ? find(strip.chain, id) : null;
    if (found) return `${strip.name}, ${isSplit(found) ? splitTitle(found) : found.kind}`;
  }
  return source;
}

/** Where a control stands without automation; null if it is no number. */
export function standing(model: Session, owner: string, control: string): number | null {
  const lever = model.levers.find((l) => l.id === owner);
  const strip = model.strips.find((s) => s.id === owner);
  const all = model.strips.flatMap((s) => s.chain);
  const element = find(all, owner);
  const branch = branches(all).find((b) => b.id === owner);
  let value: unknown = null;
  if (lever) value = lever.value;
  else if (strip && control.startsWith('send:')) {
    value = strip.sends.find((s) => s.to === control.slice(5))?.gain_db;
  } else if (strip) {
    value = control === 'position' ? strip.join.position : strip[control as 'fader_db'];
  } else if (branch) value = branch.gain_db;
  else if (element && control === 'mix') value = element.mix;
  else if (element && control.includes('.')) {
    const [list = '', index, field = ''] = control.split('.');
    const items = isSplit(element) ? element.crossovers_hz : element.params[list];
    const item = (items as unknown[] | undefined)?.[Number(index)];
    if (Array.isArray(item)) value = item[field === 'in' ? 0 : 1];
    else value = field ? (item as Record<string, unknown> | undefined)?.[field] : item;
  } else if (element && isSplit(element)) value = element.join.position;
  else if (element) value = element.params[control];
  return typeof value === 'number' ? value : null;
}
