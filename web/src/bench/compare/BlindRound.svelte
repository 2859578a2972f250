<script lang="ts">
  import type { Blind } from '../../lib/blind.svelte';
  import BlindOdds from './BlindOdds.svelte';

  interface Props {
    blind: Blind;
  }
  let { blind }: Props = $props();
</script>

<p class="note">
  {blind.kind === 'match'
    ? 'P and Q are two settings in an order that nobody knows. X is one of them.'
    : 'In another order each round.'}
</p>
<span class="label">Hear</span>
<div class="several letters" role="radiogroup" aria-label="Hear">
  {#each blind.letters as letter (letter)}
    <button
      role="radio"
      aria-checked={blind.hearing === letter}
      class:chosen={blind.hearing === letter}
      onclick={() => blind.hear(letter)}>{letter}</button
    >
  {/each}
</div>
<span class="label">Answer</span>
<div class="several">
  {#each blind.answers as letter (letter)}
    <button onclick={() => blind.answer(letter)}
      >{blind.kind === 'match' ? `X is ${letter}` : `${letter} is best`}
      <kbd>⇧{letter}</kbd></button
    >
  {/each}
</div>
<div class="line" role="status">
  <span><b>Round {blind.round}</b> of {blind.rounds}</span>
  <span class="note">covered until the last</span>
</div>
<div class="rounds" aria-hidden="true">
  {#each { length: blind.rounds } as _, i (i)}
    <i class:past={i < blind.round - 1} class:now={i === blind.round - 1}></i>
  {/each}
</div>
<BlindOdds {blind} />
{#if blind.leaving}
  <p class="caution">Stop the test? Esc once more, or</p>
{/if}
<div class="line">
  <button class="begin" onclick={() => blind.uncover()}>Uncover now</button>
  <button class="begin" onclick={() => blind.stop()}>Stop</button>
</div>
<p class="caution">
  <b>Withheld</b> until it uncovers: meters, reduction, figures and moving pictures.
</p>

<style>
  .label {
    color: var(--muted);
  }
  .several.letters button {
    padding: var(--s3) 0;
    font-size: var(--title);
    font-weight: 600;
  }
  kbd {
    font: inherit;
    font-size: var(--mark);
    color: var(--muted);
    border: 1px solid var(--hair);
    padding: 0 3px;
  }
  .rounds {
    display: flex;
    flex-wrap: wrap;
    gap: 3px;
  }
  .rounds i {
    width: 13px;
    height: 13px;
    border: 1px solid var(--edge);
  }
  .rounds .past {
    background: var(--slate);
  }
  .rounds .now {
    border: 2px solid var(--ink);
  }
</style>
