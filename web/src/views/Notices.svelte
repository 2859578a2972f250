<script lang="ts">
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    /** What may be taken from a file is offered here. */
    offers: boolean;
  }
  let { work, offers }: Props = $props();
</script>

{#if work.cues && offers}
  <div class="problem offer" role="status">
    {work.cues.file} has {work.cues.markers.length} cue markers.
    <button onclick={() => void work.takeCues()}>Take them as sections</button>
    <button onclick={() => (work.cues = null)}>Leave them</button>
  </div>
{/if}
{#if work.problem}
  <div class="problem" role="alert">
    {work.problem} <button onclick={() => (work.problem = null)}>Close</button>
  </div>
{/if}

<style>
  .problem {
    position: absolute;
    left: 50%;
    bottom: 16px;
    transform: translateX(-50%);
    max-width: 80%;
    padding: var(--s2) var(--s4);
    background: var(--field);
    border: 1px solid var(--ink);
    border-left: 6px double var(--ink);
    z-index: 10;
  }
  .offer {
    bottom: 64px;
  }
  .problem button {
    margin-left: var(--s3);
    text-decoration: underline;
  }
</style>
