import { svelte } from '@sveltejs/vite-plugin-svelte';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [svelte()],
  worker: { format: 'es' },
  build: { outDir: '../src/salt_anvil/web', emptyOutDir: true, assetsInlineLimit: 0 },
  server: { proxy: { '/api': { target: 'http://127.0.0.1:8787', ws: true } } },
});
