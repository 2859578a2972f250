import type { Typeable } from './figures';

/** A number that is being typed where there is no room for a field: over the thing it belongs to. */
export interface TypedOver extends Typeable {
  label: string;
  start: string;
  left: number;
  top: number;
  take: (value: number) => void;
  back: HTMLElement | SVGElement;
}

class Typing {
  over = $state.raw<TypedOver | null>(null);
}

export const typing = new Typing();

/** Whether a key begins a number, and with what it does. */
export function beginsNumber(event: KeyboardEvent): string | null {
  if (event.ctrlKey || event.metaKey || event.altKey) return null;
  if (event.key === 'Enter') return '';
  return /^[-0-9.]$/.test(event.key) ? event.key : null;
}

/** Opens a field over an element; returns false if the key begins no number. */
export function typeOver(
  event: KeyboardEvent,
  label: string,
  of: Typeable,
  take: (value: number) => void,
): boolean {
  const start = beginsNumber(event);
  if (start === null) return false;
  const back = event.currentTarget as HTMLElement | SVGElement;
  const box = back.getBoundingClientRect();
  const left = Math.min(Math.max(box.left + box.width / 2 - 36, 4), window.innerWidth - 210);
  const top = Math.min(Math.max(box.top + 16, 4), window.innerHeight - 80);
  typing.over = { ...of, label, start, left, top, take, back };
  event.preventDefault();
  event.stopPropagation();
  return true;
}
