<script lang="ts">
  import Choice from '../components/Choice.svelte';
  import { barBeat, clock } from '../lib/figures';
  import type { Live } from '../lib/live.svelte';

  interface Props {
    live: Live;
    rate: number;
    bpm: number | null | undefined;
  }
  let { live, rate, bpm }: Props = $props();

  const AUTOMATIC = 'as needed';
  /** Within about so long a change of the strip listened to is heard (salt_anvil.live.way_back). */
  const SOON_MS = 250;
  const choices = [AUTOMATIC, '40', '80', '160', '320', '640'];
  let open = $state(false);
  let box: HTMLElement | undefined = $state();
  const chosen = $derived(live.ahead.chosen === null ? AUTOMATIC : String(live.ahead.chosen));

  function choose(value: string): void {
    const ms = value === AUTOMATIC ? null : (Number(value) as 40 | 80 | 160 | 320 | 640);
    live.send({ type: 'set_ahead', ms });
  }

  function leave(event: Event): void {
    if (open && !box?.contains(event.target as Node)) open = false;
  }

  function place(frame: number): string {
    return bpm ? barBeat(frame, rate, bpm) : clock(frame, rate);
  }
</script>

<svelte:window onpointerdown={leave} />
<span class="sound" bind:this={box}>
  <button
    class:missed={live.missed > 0 || live.silent}
    aria-expanded={open}
    title="How far sound is computed ahead, and what was missed"
    onclick={() => (open = !open)}
    >{#if live.silent}no sound yet{:else if live.missed > 0}{live.missed} missed{:else}{live.ahead
        .ms} ms{/if}</button
  >
  {#if live.silent}<span class="why" role="status">{live.silent}</span>{/if}
  {#if open}
    <div class="card" role="dialog" aria-label="Sound on its way">
      <Choice label="Time ahead in ms" options={choices} value={chosen} onchoose={choose} />
      <p>
        Now {live.ahead.ms} ms: a moved control is heard about {live.ahead.ms + 40} ms later{#if live.ahead.ms + 40 > SOON_MS},
          one of the strip listened to about {SOON_MS}: it takes the place of sound that is ready{/if}.
        {#if live.ahead.behind}The engine is behind; the analysis waits for it.{/if}
      </p>
      {#if live.misses.length === 0}
        <p>Nothing was missed since this session was opened.</p>
      {:else}
        <table>
          <tbody>
            {#each live.misses.slice(0, 8) as miss, index (index)}
              <tr>
                <td>{miss.at.toLocaleTimeString()}</td><td>{place(miss.frame)}</td>
                <td>{miss.count}</td><td class="words">{miss.words}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      {/if}
    </div>
  {/if}
</span>

<style>
  .sound {
    position: relative;
    min-width: 56px;
    text-align: right;
  }
  button {
    color: var(--muted);
  }
  .missed {
    color: var(--ink);
    font-weight: 600;
    border-bottom: 3px double var(--ink);
  }
  .why {
    position: absolute;
    right: 0;
    top: 30px;
    padding: var(--s1) var(--s2);
    border: 1px solid var(--ink);
    background: var(--field);
    z-index: 12;
  }
  .card {
    position: absolute;
    right: 0;
    top: 30px;
    width: 380px;
    padding: var(--s3);
    display: grid;
    gap: var(--s2);
    text-align: left;
    white-space: normal;
    background: var(--field);
    border: 1px solid var(--ink);
    z-index: 13;
  }
  td {
    padding: 1px 10px 1px 0;
    vertical-align: top;
    white-space: nowrap;
  }
  .words {
    white-space: normal;
  }
</style>
