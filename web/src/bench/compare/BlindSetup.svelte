<script lang="ts">
  import Choice from '../../components/Choice.svelte';
  import type { Blind } from '../../lib/blind.svelte';
  import { said } from '../../lib/trials';
  import BlindOdds from './BlindOdds.svelte';

  interface Props {
    blind: Blind;
  }
  let { blind }: Props = $props();

  const kinds = { match: 'match X', pick: 'pick the better' } as const;
</script>

<Choice
  label="Kind of test"
  hidden
  options={Object.values(kinds)}
  value={kinds[blind.kind]}
  onchoose={(value) => {
    blind.kind = value === kinds.match ? 'match' : 'pick';
    blind.explain();
  }}
/>
<p>
  {#if blind.kind === 'match'}
    Two are hidden behind P and Q, and X is one of them. Can you tell which, more often than by
    guessing?
  {:else}
    Two or more are hidden behind letters, in another order each round. Pick the best one.
  {/if}
</p>
<div class="several" role="group" aria-label="What takes part">
  {#each blind.known as what (what)}
    <button
      aria-pressed={blind.choices.includes(what)}
      class:chosen={blind.choices.includes(what)}
      onclick={() => blind.toggle(what)}>{said(what)}</button
    >
  {/each}
</div>
<label class="line"
  >rounds
  <input
    type="number"
    min="1"
    max="50"
    aria-label="Rounds"
    bind:value={blind.rounds}
    onchange={() => blind.explain()}
  /></label
>
<BlindOdds {blind} />
{#if blind.problem}<p class="note">{blind.problem}</p>{/if}
<div class="line">
  <button class="begin" disabled={blind.problem !== null} onclick={() => void blind.begin()}
    >Begin</button
  >
  <button class="act" onclick={() => (blind.open = false)}>back to the ledger</button>
</div>

<style>
  input {
    width: 56px;
    text-align: right;
    border: 1px solid var(--edge);
    background: var(--field);
    padding: 1px var(--s1);
  }
</style>
