<script lang="ts">
  import type { Snippet } from 'svelte';
  import { signed } from '../../lib/figures';
  import type { Ledger } from '../../lib/types';
  import FigureRows from './FigureRows.svelte';
  import { FIRST, lines, loudness, MORE } from './lines';

  interface Props {
    ledger: Ledger | null;
    passage: 'the loop' | 'all';
    /** What is taken, behind the figures of the sound. */
    taken: Snippet<[Ledger]>;
  }
  let { ledger, passage, taken }: Props = $props();

  const ranges = ['lows', '150', '800', '5k'];
</script>

<table>
  <thead>
    <tr
      ><th>{passage === 'all' ? 'whole song' : `in ${passage}`}</th><th>in</th><th>out</th><th
        >diff</th
      ></tr
    >
  </thead>
  <tbody>
    <FigureRows lines={ledger ? lines(ledger, FIRST) : []} />
  </tbody>
</table>
{#if ledger}
  <details>
    <summary>more figures</summary>
    <table>
      <tbody><FigureRows lines={lines(ledger, MORE)} /></tbody>
    </table>
    {#if ledger.sections.length}
      <table>
        <thead>
          <tr><th>Loudness LUFS</th><th>in</th><th>out</th><th>diff</th></tr>
        </thead>
        <tbody><FigureRows lines={loudness(ledger)} /></tbody>
      </table>
    {/if}
  </details>
  <table>
    <thead>
      <tr
        ><th>Balance, dB</th>{#each ranges as name (name)}<th>{name}</th>{/each}</tr
      >
    </thead>
    <tbody>
      <tr
        ><th>change</th>{#each ledger.ranges_db as value, i (i)}<td
            >{value === null ? '–' : signed(value)}</td
          >{/each}</tr
      >
    </tbody>
  </table>
  {@render taken(ledger)}
  {#if ledger.given_back_db != null}
    <p class="kept">Loudness kept: {signed(ledger.given_back_db, 2)} dB given back</p>
  {/if}
  {#if ledger.contrast}
    {@const { quiet, loud, before, after } = ledger.contrast}
    <table>
      <thead>
        <tr><th colspan="4">{quiet} to {loud}, LU</th></tr>
      </thead>
      <tbody>
        <tr>
          <th>louder by</th><td>{signed(before)}</td><td>{signed(after)}</td><td
            >{signed(after - before)}</td
          >
        </tr>
      </tbody>
    </table>
  {/if}
{/if}

<style>
  .kept {
    margin: 0;
    color: var(--slate);
    font-size: var(--note);
  }
</style>
