<script lang="ts">
  import type { Blind, Letter } from '../../lib/blind.svelte';
  import type { Trial } from '../../lib/types';
  import BlindResult from './BlindResult.svelte';
  import BlindRound from './BlindRound.svelte';
  import BlindSetup from './BlindSetup.svelte';
  import KeptTrials from './KeptTrials.svelte';

  interface Props {
    blind: Blind;
    /** The strip that is tested. */
    title: string;
    /** Those of this session, the oldest first. */
    trials: Trial[];
  }
  let { blind, title, trials }: Props = $props();

  const kept = $derived([...trials].reverse().slice(0, 6));

  function key(event: KeyboardEvent): void {
    if (!blind.running || event.ctrlKey || event.metaKey || event.altKey) return;
    const letter = event.key.toUpperCase() as Letter;
    if (event.key === 'Escape') {
      if (blind.leaving) blind.stop();
      else blind.leaving = true;
    } else if (event.shiftKey && blind.answers.includes(letter)) blind.answer(letter);
    else if (!event.shiftKey && blind.letters.includes(letter)) blind.hear(letter);
    else if (event.shiftKey && /^Digit\d$/.test(event.code)) {
      // The settings are lent to the test.
    } else if ('xcvtg'.includes(event.key)) {
      // So are the keys that would show or change what is heard.
    } else return;
    event.preventDefault();
    event.stopImmediatePropagation();
  }
</script>

<svelte:window onkeydowncapture={key} />

<aside class="blind" aria-label="Blind test">
  <header>
    <h2>Blind</h2>
    <span class="note">{title}, same loudness</span>
  </header>
  {#if blind.stage === 'idle'}
    <BlindSetup {blind} />
  {:else if blind.stage === 'asking'}
    <BlindRound {blind} />
  {:else}
    <BlindResult {blind} />
  {/if}
  <div class="space"></div>
  {#if kept.length && !blind.running}<KeptTrials trials={kept} />{/if}
</aside>

<style>
  .blind {
    display: flex;
    flex-direction: column;
    gap: var(--s2);
    padding: 10px var(--s3);
    border-left: 1px solid var(--hair);
    overflow-y: auto;
    font-size: var(--note);
  }
  h2 {
    font-size: var(--heading);
  }
  .space {
    flex: 1;
  }
  /* What all its parts are made of. */
  header,
  .blind :global(.line) {
    display: flex;
    justify-content: space-between;
    align-items: baseline;
    gap: var(--s2);
  }
  .blind :global(.note) {
    color: var(--muted);
  }
  .blind :global(.several) {
    display: flex;
    flex-wrap: wrap;
    gap: var(--s2);
  }
  .blind :global(:where(.several) button) {
    flex: 1;
    padding: 5px var(--s1);
    text-align: center;
    border: 1px solid var(--ink);
    background: var(--field);
    white-space: nowrap;
  }
  .blind :global(.several .chosen) {
    background: var(--ink);
    color: var(--on-ink);
  }
  .blind :global(.begin) {
    padding: var(--s1) var(--s3);
    border: 1px solid var(--ink);
  }
  .blind :global(.act) {
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  .blind :global(.caution) {
    padding-left: var(--s2);
    border-left: 3px double var(--ink);
  }
  .blind :global(table) {
    width: 100%;
    border-collapse: collapse;
  }
  .blind :global(:is(th, td)) {
    padding: 1px 0 1px 6px;
    text-align: right;
    font-weight: 400;
    border-bottom: 1px solid var(--hair);
    white-space: nowrap;
  }
  .blind :global(th:first-child) {
    padding-left: 0;
    text-align: left;
    color: var(--muted);
    overflow: hidden;
    text-overflow: ellipsis;
    max-width: 118px;
  }
</style>
