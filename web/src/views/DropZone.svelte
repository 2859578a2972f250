<script lang="ts">
  import type { Coming } from '../lib/arrivals.svelte';
  import type { SessionState } from '../lib/types';

  /** Where files are dropped or chosen, and how far each of them is. */
  interface Props {
    current: SessionState | null;
    coming: Coming[];
    onfiles: (files: File[]) => void;
  }
  let { current, coming, onfiles }: Props = $props();

  let chooser: HTMLInputElement | undefined = $state();
  let over = $state(false);
</script>

<div
  class="drop"
  class:over
  role="region"
  aria-label="Drop audio files here"
  ondragover={(e) => {
    e.preventDefault();
    over = true;
  }}
  ondragleave={() => (over = false)}
  ondrop={(e) => {
    e.preventDefault();
    over = false;
    onfiles([...(e.dataTransfer?.files ?? [])]);
  }}
>
  <p>Drop files here, or <button onclick={() => chooser?.click()}>choose them</button>.</p>
  <p class="note">
    WAV, FLAC, AIFF, OGG, MP3; mono or stereo. They go into
    {current ? `“${current.model.name}”` : 'a new session'} as tracks.
    {#if current && current.frames > 0}
      It runs at {current.model.rate / 1000} kHz: files of another rate are converted to that.
    {:else}
      The first file sets the session’s rate for good; files of another rate are converted to it.
      Bring one of the rate that you want to print in first.
    {/if}
    A bundle (zip) is opened as a session of its own.
  </p>
  <input
    bind:this={chooser}
    type="file"
    multiple
    hidden
    accept=".wav,.flac,.aif,.aiff,.ogg,.mp3,.zip,audio/*"
    onchange={(e) => onfiles([...(e.currentTarget.files ?? [])])}
  />
</div>
{#each coming as item (item.name)}
  <div class="coming">
    <span>{item.name}</span>
    <progress max="1" value={item.share}></progress>
    <span class="note">{item.said}</span>
  </div>
{/each}

<style>
  .drop {
    padding: var(--s5);
    border: 1px dashed var(--edge);
    background: var(--field);
  }
  .drop button {
    text-decoration: underline;
  }
  .over {
    border: 1px solid var(--ink);
    background: var(--ochre-soft);
  }
  .coming {
    display: grid;
    grid-template-columns: 1fr 120px;
    gap: 2px var(--s3);
    margin-top: var(--s2);
  }
  .coming .note {
    grid-column: 1 / -1;
  }
  progress {
    width: 100%;
    accent-color: var(--ink);
  }
  .note {
    color: var(--muted);
  }
</style>
