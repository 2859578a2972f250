import '@fontsource-variable/commissioner/index.css';
import './styles.css';
import { mount } from 'svelte';
import { keepPresses } from './lib/presses';
import Beginning from './views/Beginning.svelte';

/** Other letters have other widths: with them here first, nothing moves away under a click. */
async function begin(target: HTMLElement): Promise<void> {
  await document.fonts.load('16px "Commissioner Variable"').catch(() => []);
  keepPresses(window);
  mount(Beginning, { target });
}

const target = document.getElementById('app');
if (target) void begin(target);
