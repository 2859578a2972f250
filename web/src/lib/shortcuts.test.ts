import { expect, test } from 'vitest';
import { combination, press, release, type Shortcut } from './shortcuts';

const key = (key: string, more: Partial<KeyboardEvent> = {}): KeyboardEvent =>
  ({ key, code: '', ctrlKey: false, metaKey: false, altKey: false, shiftKey: false, ...more }) as
    KeyboardEvent; // prettier-ignore

test('a key is written with what is held beside it', () => {
  expect(combination(key('L', { shiftKey: true }))).toBe('l');
  expect(combination(key('?', { shiftKey: true }))).toBe('?');
  expect(combination(key('+', { shiftKey: true }))).toBe('+');
  expect(combination(key('Z', { ctrlKey: true, shiftKey: true }))).toBe('Ctrl+Shift+z');
  expect(combination(key('z', { metaKey: true }))).toBe('Ctrl+z');
  expect(combination(key('"', { code: 'Digit2', shiftKey: true }))).toBe('Shift+Digit2');
  expect(combination(key('ArrowLeft', { shiftKey: true }))).toBe('Shift+ArrowLeft');
  expect(combination(key('ArrowUp', { altKey: true }))).toBe('Alt+ArrowUp');
});

test('what a key does depends on where it is pressed', () => {
  const done: string[] = [];
  const list: Shortcut[] = [
    { keys: '1', words: '', where: 'everywhere', on: { 1: () => done.push('1') } },
    { keys: 'x', words: '', on: { x: () => done.push('x') }, up: { x: () => done.push('up') } },
    { keys: 'Ctrl+C', words: '', where: 'bench', on: { 'Ctrl+c': () => done.push('copy') } },
  ];
  expect(press(list, key('1'), 'sessions')).toBe(true);
  expect(press(list, key('x'), 'sessions')).toBe(false);
  expect(press(list, key('x'), 'desk')).toBe(true);
  expect(press(list, key('x', { repeat: true }), 'desk')).toBe(false);
  expect(press(list, key('c', { ctrlKey: true }), 'desk')).toBe(false);
  expect(press(list, key('c', { ctrlKey: true }), 'bench')).toBe(true);
  list.push({ keys: 'Enter', words: '', on: { Enter: () => false } });
  expect(press(list, key('Enter'), 'bench')).toBe(false);
  release(list, key('X'));
  expect(done).toEqual(['1', 'x', 'copy', 'up']);
});
