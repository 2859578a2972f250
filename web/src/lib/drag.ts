import type { Attachment } from 'svelte/attachments';

/** Where a pointer is in an element: in pixels from its top left, and in shares of its size. */
export interface Spot {
  x: number;
  y: number;
  across: number;
  down: number;
  /** In pixels of the page, for an element that moves under the pointer. */
  pageX: number;
  pageY: number;
  /** What lies under the pointer. */
  target: Element;
  /** Shift is held: smaller steps. */
  fine: boolean;
  alt: boolean;
}

export function spotIn(element: Element, event: MouseEvent): Spot {
  const box = element.getBoundingClientRect();
  const [x, y] = [event.clientX - box.left, event.clientY - box.top];
  return {
    x,
    y,
    across: x / Math.max(box.width, 1),
    down: y / Math.max(box.height, 1),
    pageX: event.pageX,
    pageY: event.pageY,
    target: event.target as Element,
    fine: event.shiftKey,
    alt: event.altKey,
  };
}

/** The part of a picture that was pressed, by its `data-grab`. */
export function grabbed(at: Spot): string | undefined {
  return at.target.closest<SVGElement>('[data-grab]')?.dataset.grab;
}

/** A drag: start says what is taken in hand, undefined for nothing. */
export interface Gesture<T> {
  start: (at: Spot) => T | undefined;
  move: (held: T, at: Spot, from: Spot) => void;
  end?: (held: T) => void;
}

/** Follows a drag from its press to its end, wherever the pointer goes meanwhile; what is pressed
 * in a button or an input inside is theirs. */
export function drag<T>(gesture: Gesture<T>): Attachment<HTMLElement | SVGElement> {
  return (element) => {
    let hand: { held: T; from: Spot } | null = null;

    function down(event: PointerEvent): void {
      const own = (event.target as Element).closest('button, input, select');
      if (event.button !== 0 || (own && own !== element && element.contains(own))) return;
      const from = spotIn(element, event);
      const held = gesture.start(from);
      if (held === undefined) return;
      hand = { held, from };
      element.setPointerCapture(event.pointerId);
    }

    function move(event: PointerEvent): void {
      if (hand) gesture.move(hand.held, spotIn(element, event), hand.from);
    }

    function up(): void {
      if (!hand) return;
      const { held } = hand;
      hand = null;
      gesture.end?.(held);
    }

    const ending = new AbortController();
    const { signal } = ending;
    const node = element as HTMLElement;
    node.addEventListener('pointerdown', down, { signal });
    node.addEventListener('pointermove', move, { signal });
    node.addEventListener('pointerup', up, { signal });
    node.addEventListener('pointercancel', up, { signal });
    return () => ending.abort();
  };
}
