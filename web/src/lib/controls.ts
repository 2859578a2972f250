import { branches, find, isSplit } from './chain';
import type { Catalogue, Control, Element, Kind, Place, Session } from './types';

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
  const kind = isSplit(element) ? undefined : catalogue.kinds.find((k) => k.kind === element.kind);
  if (control.includes('.')) {
    const inner = within(element, kind, own['split']?.['crossovers_hz']);
    return inner.find((c) => c.name === control) ?? null;
  }
  if (isSplit(element)) return own['split']?.[control] ?? null;
  const found = kind?.controls.find((c) => c.name === control);
  return found ?? own['stage']?.[control] ?? null;
}

/** The controls within an element's lists: of its bands, of its points, its crossovers. */
export function within(element: Element, kind?: Kind, crossover?: Control): Control[] {
  if (isSplit(element))
    return crossover
      ? element.crossovers_hz.map((_, i) => named(crossover, i, '', crossover.label))
      : [];
  return (kind?.controls ?? []).flatMap((list) => {
    const items = element.params[list.name];
    if (!Array.isArray(items)) return [];
    const title = list.label.replace(/s$/, '');
    return items.flatMap((_, i) => {
      if (list.type === 'bands')
        return (list.fields ?? []).map((field) => named(field, i, field.name, title, list.name));
      const side: Control = { ...list, type: 'number', unit: 'dB', scale: 'db', default: 0 };
      return ['in', 'out'].map((name) =>
        named({ ...side, label: name }, i, name, title, list.name),
      );
    });
  });
}

function named(
  control: Control,
  index: number,
  field: string,
  title: string,
  list?: string,
): Control {
  return {
    ...control,
    name: [list ?? control.name, index, ...(field ? [field] : [])].join('.'),
    label: [title, index + 1, ...(field ? [control.label.toLowerCase()] : [])].join(' '),
  };
}

/** Where a control's values lie on a line: numbers, or the places of its words. */
export function range(control: Control): { low: number; high: number; words: string[] } {
  if (control.type === 'number')
    return { low: control.low ?? 0, high: control.high ?? 1, words: [] };
  const words = control.choices.length ? control.choices : ['off', 'on'];
  return { low: 0, high: words.length - 1, words };
}
