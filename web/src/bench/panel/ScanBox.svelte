<script lang="ts">
  import { untrack } from 'svelte';
  import { freshBand } from '../../lib/bands';
  import { figure, hertz } from '../../lib/figures';
  import type { Taming } from '../../lib/taming.svelte';
  import type { Control, Stage } from '../../lib/types';

  interface Props {
    stage: Stage;
    taming: Taming;
    control: Control;
  }
  let { stage, taming, control }: Props = $props();

  const answer = $derived(taming.answer);
  const scanned = $derived(((stage.params.places as unknown[]) ?? []).length > 0);
  let showHeld = $state(false);

  // The picture of a list that is there already: looked at once, nothing is changed.
  $effect(() => {
    void stage.id;
    untrack(() => {
      if (scanned && !taming.answer) void taming.glance();
    });
  });
</script>

<div class="scan">
  <div class="act">
    {#if taming.busy}
      <button class="primary" onclick={() => taming.stop()}>Stop scanning</button>
    {:else}
      <button class="primary" onclick={() => void taming.scan()}
        >{scanned ? 'Scan again' : 'Scan'}</button
      >
    {/if}
    <label
      >over the
      <select aria-label="Passage to scan" bind:value={taming.aiming.over}>
        {#each taming.passages as name (name)}<option value={name}>{name}</option>{/each}
      </select></label
    >
  </div>
  <p class="words" role="status">
    {#if taming.error}{taming.error}
    {:else if answer}
      {#if answer.words}
        {answer.changes || answer.words}
        <span class="note">{figure(answer.seconds, 0)} s looked at.</span>
        {#if taming.stale}<b>What comes in was changed since: scan again.</b>{/if}
      {/if}
      {#if answer.held.length}
        <button aria-expanded={showHeld} onclick={() => (showHeld = !showHeld)}
          >{answer.held.length} held {answer.held.length === 1 ? 'note' : 'notes'} set aside</button
        >{#if showHeld}
          <span class="held">
            {#each answer.held as note (note.hz)}
              {@const named = `${hertz(note.hz)}, ${Math.round(100 * note.share)} % of the time`}
              {#if taming.has(note.hz)}<span>{named}: in the list</span>
              {:else}<span
                  >{named}
                  <button
                    aria-label="Tame {hertz(note.hz)} all the same"
                    onclick={() => taming.tame(note.hz, (hz) => freshBand(control, { hz }))}
                    >tame it all the same</button
                  ></span
                >{/if}
            {/each}
          </span>{/if}
      {/if}
    {:else if !scanned}Nothing is scanned yet. Loop the busiest passage and scan it.{/if}
  </p>
</div>

<style>
  .scan {
    grid-column: 1 / -1;
    display: grid;
    gap: var(--s1);
    align-content: start;
    font-size: var(--note);
  }
  .act {
    display: flex;
    align-items: center;
    gap: var(--s3);
  }
  .primary {
    padding: 3px 12px;
    font-size: var(--text);
    white-space: nowrap;
  }
  .words {
    margin: 0;
    color: var(--slate);
    min-height: 2.4em;
  }
  .words button {
    border-bottom: 1px dotted currentColor;
  }
  .held {
    display: grid;
  }
  .note {
    color: var(--muted);
  }
  select {
    font: inherit;
    color: inherit;
    background: var(--field);
    border: 1px solid var(--hair);
  }
</style>
