<script module lang="ts">
  import type { PrintOptions } from '../lib/types';

  /** The file that is written. */
  export type SoundOptions = Pick<PrintOptions, 'format' | 'rate' | 'dither'>;
</script>

<script lang="ts">
  import Choice from '../components/Choice.svelte';
  import Field from '../components/Field.svelte';
  import { AS_SESSION, formatOf, LOSSLESS, rateOf, RATES_KHZ, widthsOf } from '../lib/printing';
  import type { Delivery } from '../lib/types';

  interface Props {
    delivery: Delivery | null;
    sound: SoundOptions;
  }
  let { delivery, sound = $bindable() }: Props = $props();

  let container = $state('WAV');
  let width = $state('24');
  let kbps = $state(192);
  let rate = $state(AS_SESSION);
  let dither = $state<'tpdf' | 'shaped' | 'none'>('tpdf');

  const coder = $derived(delivery?.coders.find((c) => c.title === container) ?? null);
  const widths = $derived(widthsOf(container));

  $effect(() => {
    if (!widths.includes(width)) width = '24';
    if (coder && !coder.kbps.includes(kbps)) kbps = coder.kbps[coder.kbps.length - 2] ?? kbps;
  });
  $effect(() => {
    sound = { format: formatOf(container, width, coder, kbps), rate: rateOf(rate), dither };
  });
</script>

<Choice
  label="File"
  options={[...LOSSLESS, ...(delivery?.coders ?? []).map((c) => c.title)]}
  value={container}
  onchoose={(v) => (container = v)}
/>
<div class="three">
  {#if coder}
    <Field label="kbit/s"
      ><select bind:value={kbps} aria-label="kbit/s">
        {#each coder.kbps as k (k)}<option value={k}>{k}</option>{/each}
      </select></Field
    >
    <span class="said">a listening copy; it is coded last, from float</span>
  {:else}
    <Choice
      label="Bits"
      options={widths}
      value={width}
      titles={{ '32f': 'float: nothing is dropped, nothing is dithered' }}
      onchoose={(v) => (width = v)}
    />
    <Field label="Rate"
      ><select bind:value={rate} aria-label="Rate">
        <option>{AS_SESSION}</option>
        {#each RATES_KHZ as khz (khz)}<option>{khz} kHz</option>{/each}
      </select></Field
    >
    {#if width !== '32f'}
      <Choice
        label="Dither, once, last"
        options={['tpdf', 'shaped', 'none']}
        value={dither}
        titles={{
          tpdf: 'triangular, 2 LSB, its own for each file',
          shaped:
            'the same with its noise moved to where the ear hears it least; for 44.1 and 48 kHz',
        }}
        onchoose={(v) => (dither = v as typeof dither)}
      />
    {/if}
  {/if}
</div>

<style>
  .three {
    display: flex;
    gap: var(--s4);
    align-items: end;
  }
  .said {
    color: var(--muted);
    font-size: var(--note);
  }
</style>
