<script lang="ts">
  import HarmonicsPicture from './HarmonicsPicture.svelte';
  import TonePicture from './TonePicture.svelte';
  import type { PictureProps } from '../../lib/picture';

  let props: PictureProps = $props();
  /** What comes out of the bend, or what goes into it. */
  let side = $state<'harmonics' | 'emphasis'>('harmonics');
</script>

<div class="two">
  <div class="sides" role="radiogroup" aria-label="Picture">
    {#each ['harmonics', 'emphasis'] as const as name (name)}
      <button role="radio" aria-checked={side === name} onclick={() => (side = name)}>{name}</button
      >
    {/each}
  </div>
  {#if side === 'emphasis'}<TonePicture {...props} />{:else}<HarmonicsPicture {...props} />{/if}
</div>

<style>
  .two {
    position: relative;
    min-width: 0;
    min-height: 0;
    display: grid;
    grid-template-rows: minmax(0, 1fr);
  }
  .sides {
    position: absolute;
    right: 2px;
    top: 1px;
    z-index: 1;
    display: flex;
    gap: 6px;
    font-size: var(--small);
    background: var(--field);
  }
  .sides button {
    color: var(--muted);
    border-bottom: 1px dotted currentColor;
  }
  .sides button[aria-checked='true'] {
    color: var(--ink);
    font-weight: 600;
    text-decoration: none;
  }
</style>
