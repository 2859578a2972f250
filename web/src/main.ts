import '@fontsource-variable/commissioner/index.css';
import './styles.css';
import { mount } from 'svelte';
import Beginning from './views/Beginning.svelte';

const target = document.getElementById('app');
if (target) mount(Beginning, { target });
