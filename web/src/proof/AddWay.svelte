<script lang="ts">
  import { wayName, type Proving } from '../lib/proving.svelte';
  import type { Way } from '../lib/types';

  interface Props {
    proving: Proving;
    onclose: () => void;
  }
  let { proving, onclose }: Props = $props();

  const FILE = 'a file, no coder';
  let rate = $state('as it is');
  let bits = $state('float');
  let order = $state<'last' | 'before'>('last');
  let coder = $state(FILE);
  let kbps = $state(128);
  const coders = $derived(proving.delivery?.coders ?? []);
  const chosen = $derived(coders.find((c) => c.title === coder));

  $effect(() => {
    if (chosen && !chosen.kbps.includes(kbps)) kbps = chosen.kbps[1] ?? kbps;
  });

  function add(): void {
    const way: Way = {
      rate: rate === 'as it is' ? null : Number.parseFloat(rate) * 1000,
      bits: bits === 'float' || chosen ? null : (Number(bits) as 16 | 24),
      dither: rate !== 'as it is' && bits !== 'float' && !chosen ? order : 'last',
      codec: chosen?.codec ?? null,
      kbps: chosen ? kbps : null,
    };
    const known = proving.ways.some((w) => wayName(w.way) === wayName(way));
    if (!known && wayName(way) !== 'as-it-stands')
      proving.setWays([...proving.ways, { way, on: true }]);
    onclose();
  }
  function focused(node: HTMLElement): void {
    node.focus();
  }
</script>

<form
  onsubmit={(e) => {
    e.preventDefault();
    add();
  }}
>
  <select aria-label="Coder" bind:value={coder} use:focused>
    <option>{FILE}</option>
    {#each coders as c (c.codec)}<option>{c.title}</option>{/each}
  </select>
  {#if chosen}
    <select aria-label="kbit/s" bind:value={kbps}>
      {#each chosen.kbps as k (k)}<option value={k}>{k} kbit/s</option>{/each}
    </select>
  {/if}
  <select aria-label="Rate" bind:value={rate}>
    <option>as it is</option>
    {#each (proving.delivery?.rates ?? []).filter((r) => !chosen || chosen.rates.includes(r)) as r (r)}
      <option>{r / 1000} kHz</option>
    {/each}
  </select>
  {#if !chosen}
    <select aria-label="Width" bind:value={bits}>
      <option>float</option><option value="24">24 bit</option><option value="16">16 bit</option>
    </select>
    {#if bits !== 'float' && rate !== 'as it is'}
      <select aria-label="Dither" bind:value={order}>
        <option value="last">dither last</option>
        <option value="before">dither before conversion (wrong)</option>
      </select>
    {/if}
  {/if}
  <button class="primary">Add</button>
  <button type="button" onclick={onclose}>leave it</button>
</form>

<style>
  form {
    display: flex;
    gap: var(--s2);
  }
  select {
    background: var(--field);
    border-bottom: 1px solid var(--edge);
  }
</style>
