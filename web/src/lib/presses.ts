/** Further than this a press was drawn away. */
const STILL_PX = 6;

interface Press {
  button: HTMLElement;
  x: number;
  y: number;
}

/**
 * A press counts on the button that it began on, even where the page moves under it meanwhile; drawn
 * off the button, it does not count, as everywhere.
 */
export function keepPresses(root: Window): void {
  let press: Press | null = null;
  root.addEventListener(
    'pointerdown',
    (event) => {
      press = null;
      const button = event.target instanceof Element ? event.target.closest('button') : null;
      if (!button || event.button !== 0 || !event.isPrimary || !event.isTrusted) return;
      press = { button, x: event.clientX, y: event.clientY };
      button.setPointerCapture(event.pointerId);
    },
    true,
  );
  root.addEventListener(
    'click',
    (event) => {
      if (!press || event.detail === 0) return;
      const moved = Math.hypot(event.clientX - press.x, event.clientY - press.y) > STILL_PX;
      if (moved && !covers(press.button, event.clientX, event.clientY)) {
        event.stopImmediatePropagation();
        event.preventDefault();
      }
      press = null;
    },
    true,
  );
}

function covers(element: HTMLElement, x: number, y: number): boolean {
  const box = element.getBoundingClientRect();
  return x >= box.left && x <= box.right && y >= box.top && y <= box.bottom;
}
