<script lang="ts">
  import { tick, untrack } from 'svelte';
  import { rows } from '../../lib/chain';
  import type { Live } from '../../lib/live.svelte';
  import type { Extent } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import AddMenu from './AddMenu.svelte';
  import MovingNumber from '../../components/MovingNumber.svelte';
  import { panned } from '../../lib/figures';
  import { Score } from './score.svelte';
  import Stave from './Stave.svelte';

  interface Props {
    work: Work;
    live: Live;
    /** A recipe that is tried, and where. */
    tried: Score['tried'];
    onrecipe: (spot: Extent) => void;
  }
  let { work, live, tried, onrecipe }: Props = $props();

  const score = untrack(() => new Score(work));
  const strip = $derived(work.strip);
  $effect(() => {
    score.tried = tried;
  });
  let field: HTMLElement | undefined = $state();
  let wide = $state(0);
  /** Blocks are narrower where the chain would not fit; what is still too long is scrolled. */
  let tight = $state(false);
  $effect(() => {
    void [strip?.chain, wide];
    untrack(() => (tight = false));
    void tick().then(() => (tight = field ? field.scrollWidth > field.clientWidth : false));
  });
  const tall = $derived(strip ? 28 * rows(strip.chain, work.isOpen) + 26 : 0);
</script>

<svelte:window onpointermove={(e) => score.drag(e)} onpointerup={() => score.drop()} />

{#snippet level(label: string, control: 'fader_db' | 'trim_db')}
  {#if strip}
    <MovingNumber
      of={work.movable(strip.id, control)}
      {label}
      value={strip[control]}
      onhold={(v) => work.holdStrip(strip.id, control, v)}
    />
  {/if}
{/snippet}

{#if strip}
  <section
    class="chain"
    style:min-height="{Math.max(tall, 92)}px"
    aria-label="Chain of {strip.name}"
  >
    <div class="head">
      <b>{strip.name}</b>
      <div class="line">
        {@render level('Fader', 'fader_db')}
        <MovingNumber
          of={work.movable(strip.id, 'pan')}
          label="Pan"
          value={strip.pan}
          words={panned}
          onhold={(v) => work.holdStrip(strip.id, 'pan', v)}
        />
      </div>
      <div class="line">
        <span class="small">trim</span>
        {@render level('Trim', 'trim_db')}
        {#each [['mute', 'M', 'Mute'], ['solo', 'S', 'Solo'], ['invert', 'ø', 'Polarity']] as const as [field, sign, name] (field)}
          <button
            class="state"
            class:on={strip[field]}
            aria-pressed={strip[field]}
            aria-label={name}
            title={name}
            onclick={() =>
              void work.edit({ type: 'set_strip', strip: strip.id, field, value: !strip[field] })}
            >{sign}</button
          >
        {/each}
      </div>
    </div>
    <div class="score" class:tight bind:this={field} bind:clientWidth={wide}>
      <Stave {work} {live} {score} place={strip.id} name={strip.name} chain={strip.chain} />
    </div>
    <AddMenu {work} {score} {onrecipe} />
  </section>
{/if}

<style>
  .chain {
    display: grid;
    grid-template-columns: 164px 1fr;
    border-bottom: 1px solid var(--hair);
    min-width: 0;
  }
  .head {
    padding: 10px 0 var(--s2) var(--s3);
    display: grid;
    align-content: start;
    gap: 3px;
  }
  .line {
    display: flex;
    gap: var(--s2);
    align-items: baseline;
  }
  .small {
    color: var(--muted);
  }
  .state {
    min-width: 17px;
    text-align: center;
    border: 1px solid var(--edge);
    line-height: 15px;
    font-size: var(--small);
  }
  .state + .state {
    margin-left: -9px;
  }
  .state.on {
    background: var(--ink);
    color: var(--on-ink);
    font-weight: 700;
  }
  .score.tight {
    --block: 108px;
    --block-side: 4px;
    --block-gap: var(--s1);
  }
  .score {
    display: flex;
    align-items: center;
    min-width: 0;
    padding: 0 var(--s3) 0 var(--s1);
    overflow-x: auto;
    overflow-y: hidden;
  }
</style>
