<script lang="ts">
  import type { Blind } from '../../lib/blind.svelte';
  import { percent } from '../../lib/trials';

  interface Props {
    blind: Blind;
  }
  let { blind }: Props = $props();
</script>

{#if blind.table.length}
  <table class="odds">
    <tbody>
      <tr
        ><th>of {blind.rounds}</th>{#each blind.table as [right] (right)}<td>{right}</td>{/each}</tr
      >
      <tr
        ><th>by guessing, %</th>{#each blind.table as [right, chance] (right)}<td
            ><b>{percent(chance)}</b></td
          >{/each}</tr
      >
    </tbody>
  </table>
{:else}
  <p class="note">So few rounds tell nothing: guessing reaches any score.</p>
{/if}
<p class="note">One-sided binomial, after Clark 1982.</p>
