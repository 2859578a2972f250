<script lang="ts">
  import { figure } from '../lib/figures';
  import type { Proving } from '../lib/proving.svelte';

  interface Props {
    proving: Proving;
    /** Whether there is a song to write. */
    ready: boolean;
  }
  let { proving, ready }: Props = $props();

  const { verdict } = $derived(proving.state);
  const ceiling = $derived(proving.ceiling);
  const asked = $derived(proving.state.request?.ways?.length ?? 0);
  const stale = $derived(proving.proof !== null && !proving.state.current && !proving.running);
  const share = $derived(
    Object.values(proving.state.shares ?? {}).reduce((sum, one) => sum + one, 0),
  );
  const title = $derived.by(() => {
    if (proving.running)
      return proving.known < 0 ? 'Writing the mix.' : `${proving.known} of ${asked} measured.`;
    if (proving.state.state === 'failed') return 'Could not be proved.';
    if (proving.state.state === 'stopped') return 'Stopped.';
    return verdict?.title ?? 'Not proved yet.';
  });
  const text = $derived.by(() => {
    if (proving.running) return `${proving.state.words}${share > 0 ? '' : ' …'}`;
    if (proving.state.state === 'failed') return proving.state.words;
    if (proving.state.state === 'stopped') return 'What was measured until then is kept below.';
    return (
      verdict?.text ??
      'What each way out adds to the peaks is measured by real converters, encoders and decoders.'
    );
  });
  const useful = $derived(
    ceiling?.found_db != null && !proving.running && proving.file === null && !stale,
  );
</script>

<div role="status">
  <h2 class:stale>{title}</h2>
  <p class:stale>{text}</p>
</div>
<div class="acts">
  {#if useful && ceiling?.found_db != null}
    {@const found = ceiling.found_db}
    <button class="primary" onclick={() => void proving.use(found)}>Use it</button>
    <span>
      {ceiling.stage
        ? `${ceiling.stage}: ceiling ${figure(ceiling.now_db, 1)} → ${figure(found, 1)} dB`
        : `A new limiter at the end: ceiling ${figure(found, 1)} dB`}
    </span>
  {:else if proving.running}
    <button class="primary" onclick={() => void proving.stop()}>Stop</button>
  {:else if !verdict || stale || proving.state.state !== 'done'}
    <button
      class="primary"
      disabled={!proving.target || (!ready && proving.file === null)}
      onclick={() => void proving.prove()}>Prove it</button
    >
    {#if stale}<span>These figures are from before the last change.</span>{/if}
  {/if}
</div>

<style>
  h2 {
    font-size: var(--title);
    font-weight: 700;
    line-height: 1.25;
  }
  .stale {
    color: var(--muted);
  }
  .acts {
    display: flex;
    align-items: center;
    gap: var(--s3);
    min-height: 24px;
    color: var(--slate);
  }
  .primary {
    padding: 2px var(--s4);
  }
</style>
