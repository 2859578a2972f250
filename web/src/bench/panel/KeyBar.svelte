<script lang="ts">
  import DragNumber from '../../components/DragNumber.svelte';
  import { hertz } from '../../lib/figures';
  import type { Keying, Side } from '../../lib/keying.svelte';
  import { hanging } from '../../lib/strips';
  import type { Element, Strip } from '../../lib/types';
  import KeySource from './KeySource.svelte';

  interface Props {
    keying: Keying;
    /** The strip whose stage listens. */
    strip: string;
    strips: Strip[];
    titleOf: (element: Element) => string;
    hearing: boolean;
    onhear: (hear: boolean) => void;
  }
  let { keying, strip, strips, titleOf, hearing, onhear }: Props = $props();
  const SIDES: [Side, string][] = [
    ['low_hz', 'from'],
    ['high_hz', 'to'],
  ];
  const key = $derived(keying.key);
  const barred = $derived.by(() => {
    const found = new Set(hanging(strips, strip));
    found.delete(strip);
    // Before its chain a track hangs on nothing.
    if (key?.tap === 'in') for (const s of strips) if (s.kind === 'track') found.delete(s.id);
    return found;
  });
</script>

{#if key}
  <span class="key"
    >key:
    <KeySource
      {strips}
      {titleOf}
      label="Key"
      own
      {barred}
      value={key.source ?? 'own'}
      onchoose={(source) => keying.listenTo(source)}
    />
    {#if keying.outside}
      <button class="small" title="Before its chain, or after it" onclick={() => keying.turn()}
        >{key.tap === 'in' ? 'before' : 'after'}</button
      >
    {/if}
    {#each SIDES as [side, words] (side)}
      <span>{words}</span>
      <DragNumber
        label="Key filter {words}"
        value={key[side] ?? null}
        low={10}
        high={20000}
        unit="Hz"
        step={1}
        log
        reset={null}
        text={hertz(key[side])}
        onhold={(v) => keying.filter(side, v)}
        ondrop={() => void keying.drop()}
      />
    {/each}
    <button
      class="small"
      aria-pressed={hearing}
      title="Hear the key (hold K)"
      onclick={() => onhear(!hearing)}>{hearing ? 'hearing it' : 'hear'}</button
    ></span
  >
{/if}

<style>
  .key {
    display: inline-flex;
    gap: 5px;
    color: var(--key);
  }
  .small {
    border-bottom: 1px dotted currentColor;
  }
</style>
