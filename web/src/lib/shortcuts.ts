import type { Aiming } from './aiming.svelte';
import type { Blind } from './blind.svelte';
import type { Compare } from './compare.svelte';
import { copy, cut, paste } from './clipboard';
import { WAYS, type Way } from './monitor.svelte';
import type { Library } from './library.svelte';
import type { Live } from './live.svelte';
import type { Proving } from './proving.svelte';
import type { Reference } from './reference.svelte';
import type { Transport } from './transport';
import type { Work } from './work.svelte';

export type View = 'sessions' | 'bench' | 'desk' | 'proof' | 'lab';

/** What the keys act on. */
export interface Program {
  work: Work;
  live: Live;
  transport: Transport;
  compare: Compare;
  blind: Blind;
  library: Library;
  aiming: Aiming;
  reference: Reference;
  proving: Proving;
  show: (view: View) => void;
  help: () => void;
}

/** Keys, what they do in words, and what they do: by the key as `combination` writes it. An act that
 * returns false has done nothing; the key is somebody else's. */
export interface Shortcut {
  keys: string;
  words: string;
  on?: Record<string, () => unknown>;
  up?: Record<string, () => unknown>;
  /** Where it works: everywhere, with a session open, on Bench, or on Proof; with a session by default. */
  where?: 'everywhere' | 'session' | 'bench' | 'proof';
  /** It goes on while the key is held down. */
  repeats?: boolean;
}

/** Every key of the program; those without an act are listened to where they are used. */
export function shortcuts(program: Program): Shortcut[] {
  const { work, live, transport, compare, blind, library, aiming, reference, proving, show, help } =
    program;
  const open = (to: View) => () => work.state && show(to);
  /** Selected words are copied by the browser. */
  const clip = (act: () => void) => () => !window.getSelection()?.toString() && act();
  const rest = (): void => live.hold(null);
  return [
    { keys: 'Space', words: 'play, stop', on: { ' ': () => void transport.play() } },
    {
      keys: 'L',
      words: 'loop the section under the playhead, or let go',
      on: { l: () => transport.loop() },
    },
    {
      keys: 'I',
      words: 'a section at the playhead, to be named',
      on: { i: () => void work.addSection(live.frame) },
    },
    {
      keys: 'on the sections',
      words:
        '↑ ↓ name or edge, ← → move it by a bar (Shift: a beat), Enter names, Delete takes away, L loops',
    },
    {
      keys: '← →',
      words: 'a beat back, a beat on (Shift: a quarter of it)',
      repeats: true,
      on: {
        ArrowLeft: () => transport.step(-1),
        ArrowRight: () => transport.step(1),
        'Shift+ArrowLeft': () => transport.step(-0.25),
        'Shift+ArrowRight': () => transport.step(0.25),
      },
    },
    {
      keys: '↑ ↓',
      words: 'strip before, strip after',
      repeats: true,
      on: { ArrowUp: () => transport.nextStrip(-1), ArrowDown: () => transport.nextStrip(1) },
    },
    {
      keys: '1 2 3 4 5',
      words: 'Sessions, Bench, Desk, Proof, Lab',
      where: 'everywhere',
      on: {
        1: () => show('sessions'),
        2: open('bench'),
        3: open('desk'),
        4: open('proof'),
        5: open('lab'),
      },
    },
    { keys: 'hold X', words: 'hear before', on: { x: () => live.hold('in') }, up: { x: rest } },
    {
      keys: 'hold C',
      words: 'hear what is removed',
      on: { c: () => live.hold('removed') },
      up: { c: rest },
    },
    {
      keys: 'hold K',
      words: 'hear the key of the selected stage',
      on: { k: () => work.listenToKey(true) },
      up: { k: () => work.hearKey && work.listenToKey(false) },
    },
    {
      keys: 'hold R',
      words: 'hear the reference',
      on: { r: () => void reference.hold(true) },
      up: { r: () => void reference.hold(false) },
    },
    { keys: 'G', words: 'same loudness', on: { g: () => (live.same.on = !live.same.on) } },
    {
      keys: 'Shift+1 … 4',
      words: 'settings A to D',
      where: 'bench',
      on: {
        'Shift+Digit1': () => compare.choose('A'),
        'Shift+Digit2': () => compare.choose('B'),
        'Shift+Digit3': () => compare.choose('C'),
        'Shift+Digit4': () => compare.choose('D'),
      },
    },
    {
      keys: 'Ctrl+Shift+1 … 4',
      words: 'copy what is heard into a setting',
      where: 'bench',
      on: {
        'Ctrl+Shift+Digit1': () => compare.copy(compare.chosen, 'A'),
        'Ctrl+Shift+Digit2': () => compare.copy(compare.chosen, 'B'),
        'Ctrl+Shift+Digit3': () => compare.copy(compare.chosen, 'C'),
        'Ctrl+Shift+Digit4': () => compare.copy(compare.chosen, 'D'),
      },
    },
    {
      keys: 'V',
      words: 'settings side by side; Esc goes back to the stage',
      where: 'bench',
      on: {
        v: () => {
          library.close();
          compare.open = !compare.open;
        },
      },
    },
    {
      keys: 'E',
      words: 'the library of recipes',
      where: 'bench',
      on: { e: () => (library.open ? library.close() : void library.show()) },
    },
    {
      keys: 'A',
      words: 'aim: say what a stage shall do, and have the value found',
      where: 'bench',
      on: { a: () => aiming.show() },
    },
    {
      keys: 'N, Shift+N',
      words: 'in Proof: next over, over before',
      where: 'proof',
      on: { n: () => proving.step(1), N: () => proving.step(-1) },
    },
    {
      keys: 'T',
      words: 'a blind test of the settings',
      where: 'bench',
      on: { t: () => blind.prepare() },
    },
    {
      keys: '[ ]',
      words: 'step through recipes or starting points; Enter keeps, Esc restores',
      on: {
        '[': () => (library.open ? library.step(-1) : work.tryPoint(-1)),
        ']': () => (library.open ? library.step(1) : work.tryPoint(1)),
        Escape: () => {
          if (work.tried) work.dropTrying();
          else if (library.open) library.close();
          else compare.open = blind.open = aiming.open = false;
        },
        Enter: () => {
          if (library.open && library.edit) return void library.keep();
          return work.tried !== null && void work.keepTrying();
        },
      },
    },
    ...(Object.keys(WAYS) as Way[]).map((way) => {
      const [name, key, words] = WAYS[way];
      const act = (): void => live.monitor.turn(way);
      return { keys: key, words: `${name}: ${words}`, on: { [key.toLowerCase()]: act } };
    }),
    {
      keys: 'M S',
      words: 'mute, solo the selected strip',
      on: { m: () => transport.toggle('mute'), s: () => transport.toggle('solo') },
    },
    { keys: 'B', words: 'selected stage on, off', on: { b: () => transport.bypass() } },
    {
      keys: '+ −',
      words: 'zoom the time strip',
      on: { '+': () => transport.zoom(0.8), '-': () => transport.zoom(1.25) },
    },
    {
      keys: 'Ctrl+C, X, V',
      words: 'copy, cut, paste stages, a split, or the chain if the chain is looked at',
      where: 'bench',
      on: {
        'Ctrl+c': clip(() => copy(work)),
        'Ctrl+x': clip(() => cut(work)),
        'Ctrl+v': clip(() => void paste(work)),
      },
    },
    {
      keys: 'on a strip',
      words:
        'F2 renames, Alt+↑ ↓ moves it, Shift+↑ ↓ takes several (for mute and solo), D duplicates, Delete takes it away',
    },
    { keys: 'Ctrl+Z', words: 'undo', on: { 'Ctrl+z': () => void work.undo() } },
    { keys: 'Ctrl+Shift+Z', words: 'redo', on: { 'Ctrl+Shift+z': () => void work.redo() } },
    { keys: '?', words: 'this table', where: 'everywhere', on: { '?': help } },
    {
      keys: 'on a control',
      words: 'arrows move (Shift: fine), digits type, Home and End, double click: default',
    },
    {
      keys: 'on a stage',
      words: 'Alt+arrows move it along its stave or to the next, Delete takes it away',
    },
    {
      keys: '',
      words: 'Shift+click or Shift+Enter takes several, to blend or split them together',
    },
    { keys: 'on a bracket', words: 'Enter selects, once more opens and closes' },
    {
      keys: 'on automation',
      words: 'n next point, arrows move it, s shape, Delete takes it away',
    },
  ];
}

/** A key with what is held beside it: "Ctrl+Shift+z", "Shift+ArrowLeft", "Shift+Digit1", "?". */
export function combination(event: KeyboardEvent): string {
  const { key, code } = event;
  const held = event.ctrlKey || event.metaKey ? ['Ctrl'] : [];
  if (event.altKey) held.push('Alt');
  const digit = event.shiftKey && /^Digit\d$/.test(code);
  const letter = /^\p{L}$/u.test(key);
  if (digit || (event.shiftKey && (letter ? held.length : key.length > 1))) held.push('Shift');
  return [...held, digit ? code : letter ? key.toLowerCase() : key].join('+');
}

/** Whether a key belongs to something that is being typed into. */
export function isTyping(
  target: EventTarget | null,
): target is HTMLInputElement | HTMLSelectElement | HTMLTextAreaElement {
  return (
    target instanceof HTMLInputElement ||
    target instanceof HTMLSelectElement ||
    target instanceof HTMLTextAreaElement
  );
}

/** Whether a key does anything in a view; one view may use a key that is another's elsewhere. */
function works(where: NonNullable<Shortcut['where']>, view: View): boolean {
  if (where === 'everywhere') return true;
  return where === 'session' ? view !== 'sessions' : where === view;
}

/** Does what a key stands for; says whether it stood for anything. */
export function press(list: Shortcut[], event: KeyboardEvent, view: View): boolean {
  const pressed = combination(event);
  const found = list.find((s) => s.on?.[pressed] && works(s.where ?? 'session', view));
  if (!found || (event.repeat && !found.repeats)) return false;
  return found.on?.[pressed]?.() !== false;
}

export function release(list: Shortcut[], event: KeyboardEvent): void {
  const key = event.key.toLowerCase();
  list.find((s) => s.up?.[key])?.up?.[key]?.();
}
