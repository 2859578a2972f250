import { branches, find, isSplit } from './chain';
import type { Catalogue, Control, Place, Session } from './types';

/** How a control of a strip, send, branch, stage, split or lever is declared. */
export function declared(catalogue: Catalogue, model: Session, place: Place): Control | null {
  const { owner, control } = place;
  const own = catalogue.controls;
  const strip = model.strips.find((s) => s.id === owner);
  if (strip && control.startsWith('send:')) return own['send']?.['gain_db'] ?? null;
  if (strip) return own['strip']?.[control] ?? null;
  if (model.levers.some((l) => l.id === owner)) return own['lever']?.[control] ?? null;
  const all = model.strips.flatMap((s) => s.chain);
  if (branches(all).some((b) => b.id === owner)) return own['branch']?.[control] ?? null;
  const element = find(all, owner);
  if (!element) return null;
  if (isSplit(element)) return own['split']?.[control] ?? null;
  const kind = catalogue.kinds.find((k) => k.kind === element.kind);
  const found = kind?.controls.find((c) => c.name === control);
  return found ?? own['stage']?.[control] ?? null;
}

/** Where a control's values lie on a line: numbers, or the places of its words. */
export function range(control: Control): { low: number; high: number; words: string[] } {
  if (control.type === 'number')
    return { low: control.low ?? 0, high: control.high ?? 1, words: [] };
  const words = control.choices.length ? control.choices : ['off', 'on'];
  return { low: 0, high: words.length - 1, words };
}
