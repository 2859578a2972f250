<script lang="ts">
  import type { Blind } from '../../lib/blind.svelte';
  import { percent, said, score } from '../../lib/trials';

  interface Props {
    blind: Blind;
  }
  let { blind }: Props = $props();
</script>

<table aria-label="Uncovered">
  <tbody>
    {#if blind.kind === 'match'}
      {#each blind.uncovered as [letter, what] (letter)}
        <tr><th>{letter} was</th><td><b>{said(what)}</b></td></tr>
      {/each}
    {/if}
    {#if blind.result}
      <tr
        ><th>{blind.result.best ? 'picked most' : 'right'}</th><td><b>{score(blind.result)}</b></td
        ></tr
      >
      <tr><th>by guessing</th><td><b>{percent(blind.result.chance)} %</b></td></tr>
      {#if blind.result.early}<tr><th>stopped early</th><td></td></tr>{/if}
    {/if}
  </tbody>
</table>
{#if blind.result}
  <p>
    {#if blind.result.chance <= 0.05}
      Guessing would do as well only {percent(blind.result.chance)} % of the time.
    {:else}
      Guessing does as well {percent(blind.result.chance)} % of the time: this does not show that they
      can be told apart.
    {/if}
  </p>
{/if}
<div class="line">
  <button class="begin" onclick={() => blind.prepare()}>Another</button>
  <button class="act" onclick={() => (blind.open = false)}>back to the ledger</button>
</div>
