<script lang="ts">
  import { figure } from '../../lib/figures';
  import { FATES, type Marking } from '../../lib/marking.svelte';

  interface Props {
    marking: Marking;
    rate: number;
  }
  let { marking, rate }: Props = $props();
</script>

<div class="asking" role="group" aria-label="Hits to keep and to refuse">
  <b>Marks:</b>
  <span>click in the waveform to</span>
  {#each FATES as fate (fate)}
    <button class="brush" aria-pressed={marking.brush === fate} onclick={() => marking.take(fate)}
      >{fate}</button
    >
  {/each}
  {#each FATES as fate (fate)}
    <button class="link" title="At the playhead" onclick={() => marking.mark(fate)}
      >{fate} the hit here</button
    >
    {#each marking.of(fate) as frame (frame)}
      <span class="mark" class:refuse={fate === 'refuse'}
        ><button onclick={() => marking.goTo(frame)} title="Go there"
          >{fate} {figure(frame / rate, 2)} s</button
        ><button
          aria-label="Take the mark at {figure(frame / rate, 2)} s away"
          onclick={() => marking.remove(fate, frame)}>×</button
        ></span
      >
    {/each}
  {/each}
  <button
    class="primary"
    disabled={marking.busy || !marking.of('keep').length}
    onclick={() => void marking.find()}>{marking.busy ? 'finding…' : 'Set the gate by them'}</button
  >
  <output aria-live="polite">{marking.result}</output>
</div>

<style>
  .brush {
    padding: 0 5px;
    border: 1px solid var(--hair);
  }
  .brush[aria-pressed='true'] {
    background: var(--ink);
    color: var(--field);
  }
  .mark {
    border: 1px solid var(--edge);
    background: var(--field);
    padding: 0 2px;
  }
  .mark.refuse {
    border-style: dashed;
  }
</style>
