<script lang="ts">
  import AddWay from './AddWay.svelte';
  import DragNumber from '../components/DragNumber.svelte';
  import { figure } from '../lib/figures';
  import type { Proving } from '../lib/proving.svelte';

  interface Props {
    proving: Proving;
  }
  let { proving }: Props = $props();

  let adding = $state(false);
  const proof = $derived(proving.proof);
</script>

<div class="foot">
  {#if adding}
    <AddWay {proving} onclose={() => (adding = false)} />
  {:else}
    <button class="act" onclick={() => (adding = true)}>+ way out</button>
  {/if}
  <span
    >an over is a place above
    <DragNumber
      label="Overs lie above"
      value={proving.limit}
      low={-6}
      high={6}
      unit="dBTP"
      reset={0}
      onhold={(v) => (proving.limit = Math.round(10 * (v ?? 0)) / 10)}
      ondrop={() => undefined}
    /></span
  >
  <span class="hint">a click on a mark goes there; N: next over</span>
  <span class="space"></span>
  {#if proof?.seconds && !proving.running}<span>proved in {figure(proof.seconds, 1)} s</span>{/if}
  {#if proof && !proving.running}
    <button class="act" onclick={() => void proving.prove()}>prove again</button>
  {/if}
</div>

<style>
  .foot {
    display: flex;
    align-items: baseline;
    gap: var(--s4);
    padding: 3px var(--s3) 4px;
    font-size: var(--note);
    color: var(--slate);
    white-space: nowrap;
  }
  .hint {
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .act {
    text-decoration: underline dotted;
    color: var(--ink);
  }
  .space {
    flex: 1;
  }
  @media (max-width: 1150px) {
    .hint {
      display: none;
    }
  }
</style>
