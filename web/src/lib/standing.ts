import { tick } from 'svelte';
import type { Attachment } from 'svelte/attachments';
import { on } from 'svelte/events';

/** A field of what is stored: passes on what is chosen or typed, and shows what stands then, which
 *  is what stood before where it was refused. Esc takes back what is typed. change: told the wish;
 *  done when it is stored. */
export function standing(
  value: () => string,
  change: (wanted: string) => Promise<unknown>,
): Attachment<HTMLInputElement | HTMLSelectElement> {
  return (node) => {
    let changes = 0;
    const changed = on(node, 'change', async () => {
      const mine = ++changes;
      await change(node.value);
      await tick();
      if (mine === changes) node.value = value();
    });
    const typed = on(node, 'keydown', (event) => {
      if ((event as KeyboardEvent).key === 'Escape') node.value = value();
    });
    return () => {
      changed();
      typed();
    };
  };
}
