<!-- The first thing a page shows: what a first start is still making, then the application. -->
<script lang="ts">
  import App from '../App.svelte';
  import { api } from '../lib/api';
  import { applyTheme } from '../lib/theme';
  import type { Readiness } from '../lib/types';

  const AGAIN_MS = 400;
  let reported = $state.raw<Readiness | null>(null);
  let problem = $state<string | null>(null);

  applyTheme(localStorage.getItem('theme'));
  $effect(() => void look());

  async function look(): Promise<void> {
    try {
      reported = await api.readiness();
      problem = null;
    } catch (error) {
      problem = (error as Error).message;
    }
    if (!reported?.ready) setTimeout(() => void look(), AGAIN_MS);
  }
</script>

{#if reported?.ready}
  <App />
{:else if reported || problem}
  <main>
    <h1>Salt Anvil is getting ready</h1>
    <p>This is done once; the next start takes a few seconds.</p>
    {#each reported?.parts ?? [] as part (part.name)}
      <label>
        <span>{part.name}</span>
        <span class="share">{part.problem ? '' : `${Math.round(100 * part.share)} %`}</span>
        <progress max="1" value={part.share}></progress>
      </label>
      {#if part.problem}<p role="alert">{part.problem}</p>{/if}
    {/each}
    {#if problem}<p role="alert">{problem}</p>{/if}
  </main>
{/if}

<style>
  main {
    width: min(480px, 90vw);
    margin: 18vh auto 0;
  }
  h1 {
    font-size: var(--title);
    margin-bottom: var(--s2);
  }
  p {
    color: var(--muted);
  }
  label {
    display: grid;
    grid-template-columns: 1fr auto;
    gap: 2px var(--s3);
    margin-top: var(--s5);
  }
  .share {
    font-variant-numeric: tabular-nums;
  }
  progress {
    grid-column: 1 / -1;
    width: 100%;
    accent-color: var(--ink);
  }
  [role='alert'] {
    margin-top: var(--s2);
    padding-left: var(--s2);
    border-left: 3px double var(--ink);
    color: var(--ink);
  }
</style>
