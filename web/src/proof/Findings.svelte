<script lang="ts">
  import type { Proving } from '../lib/proving.svelte';

  interface Props {
    proving: Proving;
  }
  let { proving }: Props = $props();

  const { proof } = $derived(proving);
</script>

<section aria-label="Cautions">
  <h2>Cautions</h2>
  {#each proof?.findings ?? [] as finding, i (i)}
    <p class="finding">
      <b>{finding.title}.</b>
      {finding.text}
      {#if finding.frame != null && proof}
        {@const at = finding.frame}
        <button onclick={() => proving.from(proof.begin + at)}>Show</button>
      {/if}
    </p>
  {/each}
  {#if proof}
    <p class="looked">
      Looked for{proof.findings.length ? ' besides' : ', not found'}: {proof.looked_for.join(', ')}.
    </p>
  {:else}
    <p class="looked">What could be wrong with the file is looked for when it is proved.</p>
  {/if}
</section>

<style>
  section {
    display: grid;
    gap: var(--s2);
    font-size: var(--note);
  }
  h2 {
    font-size: var(--text);
  }
  .finding {
    border-left: 5px double var(--ink);
    padding-left: var(--s2);
  }
  button {
    text-decoration: underline;
  }
  .looked {
    color: var(--muted);
  }
</style>
