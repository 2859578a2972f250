import { elements, find, home } from './chain';
import type { Edit, Element, Strip } from './types';
import type { Work } from './work.svelte';

const PLACE = 'salt-anvil/clipboard';

/** The elements that copy and cut mean: those chosen together, the selected one, or the chain. */
function meant(work: Work): { strip: Strip; found: Element[] } | null {
  const strip = work.strip;
  if (!strip) return null;
  if (work.scope === 'chain') return { strip, found: strip.chain };
  const ids = work.chosen.length ? work.chosen : [work.stageId];
  const found = elements(strip.chain).filter((e) => ids.includes(e.id));
  return found.length ? { strip, found } : null;
}

/** Puts stages on the clipboard, which other tabs and sessions see too; says what is on it. */
export function copy(work: Work): string | null {
  const what = meant(work);
  if (!what?.found.length) return null;
  localStorage.setItem(PLACE, JSON.stringify(what.found));
  return `${what.found.length} on the clipboard`;
}

export function cut(work: Work): void {
  const what = meant(work);
  if (!what?.found.length || !copy(work)) return;
  void work.edit(...what.found.map((e): Edit => ({ type: 'remove_stage', stage: e.id })));
}

/** Pastes behind the selected stage, or at the end of the strip. */
export async function paste(work: Work): Promise<void> {
  const strip = work.strip;
  const text = localStorage.getItem(PLACE);
  if (!strip || !text) return;
  const at = work.branchId ? null : home(strip, work.stageId);
  const branch = work.branch;
  const place = branch?.id ?? at?.place ?? strip.id;
  const chain = branch?.chain ?? at?.chain ?? strip.chain;
  const index = at ? chain.findIndex((e) => e.id === work.stageId) + 1 : chain.length;
  const known = new Set(elements(strip.chain).map((e) => e.id));
  await work.edit({
    type: 'paste_elements',
    place,
    index,
    elements: JSON.parse(text) as Record<string, unknown>[],
  });
  const pasted = work.strip && elements(work.strip.chain).find((e) => !known.has(e.id));
  if (pasted && work.strip && find(work.strip.chain, pasted.id)) work.choose(pasted.id);
}
