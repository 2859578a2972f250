<script lang="ts">
  import { WAYS, type Monitor, type Way } from '../../lib/monitor.svelte';

  interface Props {
    monitor: Monitor;
  }
  let { monitor }: Props = $props();

  const ways = Object.entries(WAYS) as [Way, (typeof WAYS)[Way]][];
</script>

<details>
  <summary>heard {monitor.words.length ? monitor.words.join(', ') : 'as it is'}</summary>
  <div class="ways" role="group" aria-label="Between the sound and the ear">
    {#each ways as [way, [name, key, words]] (way)}
      <button
        aria-pressed={monitor.on[way] > 0}
        aria-keyshortcuts={key}
        title={words}
        onclick={() => monitor.turn(way)}>{name} <kbd>{key}</kbd></button
      >
    {/each}
    <p>Never printed.</p>
  </div>
</details>

<style>
  details {
    position: relative;
  }
  summary {
    cursor: pointer;
    color: var(--slate);
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .ways {
    position: absolute;
    bottom: 100%;
    left: 0;
    right: 0;
    z-index: 5;
    display: grid;
    padding: var(--s2);
    background: var(--ground);
    border: 1px solid var(--ink);
  }
  button {
    display: flex;
    justify-content: space-between;
    padding: 2px var(--s2);
    text-align: left;
  }
  button[aria-pressed='true'] {
    background: var(--ink);
    color: var(--on-ink);
  }
  kbd {
    font: inherit;
    font-size: var(--mark);
  }
  p {
    margin: var(--s1) var(--s2) 0;
    color: var(--muted);
    font-size: var(--note);
  }
</style>
