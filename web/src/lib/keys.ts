/** Every key of the program, for the table that ? shows. */
export const KEYS: [string, string][] = [
  ['Space', 'play, stop'],
  ['L', 'loop the section under the playhead, or let go'],
  ['I', 'a section at the playhead, to be named'],
  [
    'on the sections',
    '↑ ↓ name or edge, ← → move it by a bar (Shift: a beat), Enter names, Delete takes away, L loops',
  ],
  ['← →', 'a beat back, a beat on (Shift: a quarter of it)'],
  ['↑ ↓', 'strip before, strip after'],
  ['1 2 3 5', 'Sessions, Bench, Desk, Lab'],
  ['hold X', 'hear before'],
  ['hold C', 'hear what is removed'],
  ['hold K', 'hear the key of the selected stage'],
  ['G', 'same loudness'],
  ['Shift+1 … 4', 'settings A to D'],
  ['[ ]', 'step through starting points; Enter keeps, Esc restores'],
  ['M S', 'mute, solo the selected strip'],
  ['B', 'selected stage on, off'],
  ['+ −', 'zoom the time strip'],
  ['Ctrl+C, X, V', 'copy, cut, paste stages, a split, or the chain if the chain is looked at'],
  [
    'on a strip',
    'F2 renames, Alt+↑ ↓ moves it, Shift+↑ ↓ takes several (for mute and solo), D duplicates, Delete takes it away',
  ],
  ['Ctrl+Z', 'undo'],
  ['Ctrl+Shift+Z', 'redo'],
  ['?', 'this table'],
  ['on a control', 'arrows move (Shift: fine), digits type, Home and End, double click: default'],
  ['on a stage', 'Alt+arrows move it along its stave or to the next, Delete takes it away'],
  ['', 'Shift+click or Shift+Enter takes several, to blend or split them together'],
  ['on a bracket', 'Enter selects, once more opens and closes'],
  ['on automation', 'n next point, arrows move it, s shape, Delete takes it away'],
];

/** Whether a key belongs to something that is being typed into. */
export function isTyping(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLInputElement ||
    target instanceof HTMLSelectElement ||
    target instanceof HTMLTextAreaElement
  );
}
