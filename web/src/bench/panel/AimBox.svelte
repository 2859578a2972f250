<script lang="ts">
  import { tick } from 'svelte';
  import Checkbox from '../../components/Checkbox.svelte';
  import { QUANTITIES, type Aiming, type Quantity } from '../../lib/aiming.svelte';
  import { figure } from '../../lib/figures';

  interface Props {
    aiming: Aiming;
  }
  let { aiming }: Props = $props();
  const unit = $derived(QUANTITIES[aiming.what][1]);
  const label = $derived(aiming.controls.find((c) => c.name === aiming.control)?.label ?? '');

  let number: HTMLInputElement | undefined = $state();
  // Whoever asks for an aim types next what is wanted; whoever looks at another stage does not.
  $effect(() => {
    if (!aiming.asked) return;
    aiming.asked = false;
    void tick().then(() => number?.select());
  });

  function start(event: SubmitEvent): void {
    event.preventDefault();
    void aiming.start();
  }
</script>

<form class="asking" aria-label="Aim" onsubmit={start}>
  <b>Aim:</b>
  <select
    aria-label="What is moved"
    value={aiming.control}
    onchange={(e) => aiming.choose(e.currentTarget.value)}
  >
    {#each aiming.controls as control (control.name)}
      <option value={control.name}>{control.label}</option>
    {/each}
  </select>
  <span>until</span>
  <select
    aria-label="What is wanted"
    value={aiming.what}
    onchange={(e) => aiming.want(e.currentTarget.value as Quantity)}
  >
    {#each aiming.quantities as what (what)}
      <option value={what}>{QUANTITIES[what][0]}</option>
    {/each}
  </select>
  {#if aiming.what === 'reduction'}
    <input
      type="number"
      aria-label="Percentile"
      min="0"
      max="100"
      step="any"
      required
      bind:value={aiming.percentile}
    /> <span title="So much of the time it reduces by less; 100 % is the most">%</span>
  {/if}
  <span>{aiming.what === 'down' ? '' : 'is'}</span>
  <input
    type="number"
    bind:this={number}
    aria-label="How much is wanted"
    min="-70"
    max="60"
    step="any"
    required
    bind:value={aiming.wanted}
  />
  <span>{unit}, over the</span>
  <select aria-label="Over which passage" bind:value={aiming.over}>
    {#each aiming.passages as [name] (name)}<option value={name}>{name}</option>{/each}
  </select>
  {#if aiming.what === 'down' && aiming.makeUp}
    <Checkbox
      on={aiming.kept}
      label="loudness kept"
      title="{aiming.makeUp.label} is moved as well, so that both sides are equally loud"
      onswitch={(on) => (aiming.kept = on)}
    />
  {/if}
  {#if aiming.number === null}
    <button class="primary" type="submit">Find it</button>
  {:else}
    <button class="primary" type="button" onclick={() => aiming.stop()}>Stop</button>
  {/if}
  <button class="link" type="button" onclick={() => aiming.show()}>close</button>
  <output aria-live="polite">
    {#if aiming.number !== null}
      {@const last = aiming.steps[aiming.steps.length - 1]}
      try {aiming.steps.length + 1}
      {#if last}: {label}
        {figure(last.value, 2)} gives {last.got == null ? 'nothing' : figure(last.got, 2)}{/if}
    {:else if aiming.result}
      {aiming.result}
      {#if aiming.steps.length}({aiming.steps.length} tries){/if}
    {/if}
  </output>
</form>

<style>
  select,
  input {
    font: inherit;
    color: inherit;
    background: var(--field);
    border: 1px solid var(--hair);
    max-width: 190px;
  }
  input {
    width: 58px;
  }
</style>
