<script lang="ts">
  import Scrub from '../components/Scrub.svelte';
  import type { Live } from '../lib/live.svelte';
  import type { Work } from '../lib/work.svelte';
  import Block from './Block.svelte';

  interface Props {
    work: Work;
    live: Live;
  }
  let { work, live }: Props = $props();

  let adding = $state<number | null>(null);
  let carried = $state<{ id: string; x: number; from: number } | null>(null);
  let target = $state<number | null>(null);
  let stave: HTMLElement | undefined = $state();

  const strip = $derived(work.strip);
  const chain = $derived(strip?.chain ?? []);

  function add(kind: string, index: number): void {
    if (!strip) return;
    const at = Math.min(index, chain.length);
    adding = null;
    const known = new Set(chain.map((s) => s.id));
    void work.edit({ type: 'add_stage', strip: strip.id, index: at, kind, params: {} }).then(() => {
      const fresh = work.strip?.chain.find((s) => !known.has(s.id));
      if (fresh) choose(fresh.id);
    });
  }

  function choose(id: string): void {
    work.dropTrying();
    work.stageId = id;
    work.listen();
    work.fresh += 1;
  }

  function move(id: string, index: number): void {
    const from = chain.findIndex((s) => s.id === id);
    const at = index > from ? index - 1 : index;
    if (strip && at !== from && at >= 0 && at < chain.length) {
      void work.edit({ type: 'move_stage', stage: id, strip: strip.id, index: at });
    }
  }

  function drag(event: PointerEvent): void {
    if (!carried || !stave) return;
    const box = stave.getBoundingClientRect();
    if (Math.abs(event.clientX - carried.from) > 6) carried = { ...carried, x: event.clientX };
    const blocks = [...stave.querySelectorAll<HTMLElement>('[data-stage]')];
    const before = blocks.findIndex((b) => {
      const r = b.getBoundingClientRect();
      return event.clientX < r.left + r.width / 2;
    });
    const inside = event.clientY > box.top - 40 && event.clientY < box.bottom + 40;
    target = !inside ? null : before < 0 ? blocks.length : before;
  }

  function drop(): void {
    if (carried && target !== null && Math.abs(carried.x - carried.from) > 6) {
      move(carried.id, target);
    }
    carried = null;
    target = null;
  }

  function panned(pan: number): string {
    if (Math.abs(pan) < 0.005) return 'centre';
    return `${pan < 0 ? 'L' : 'R'} ${Math.round(Math.abs(pan) * 100)}`;
  }
</script>

<svelte:window onpointermove={drag} onpointerup={drop} />

{#snippet level(label: string, field: 'fader_db' | 'trim_db', low: number, high: number)}
  {#if strip}
    <Scrub
      {label}
      value={strip[field]}
      {low}
      {high}
      unit="dB"
      reset={0}
      onhold={(v) => work.holdStrip(strip.id, { [field]: v ?? 0 })}
      ondrop={() => void work.drop()}
    />
  {/if}
{/snippet}

{#if strip}
  <section class="chain" aria-label="Chain of {strip.name}">
    <div class="head">
      <b>{strip.name}</b>
      <div class="line">
        {@render level('Fader', 'fader_db', -90, 12)}
        <Scrub
          label="Pan"
          value={strip.pan}
          low={-1}
          high={1}
          unit=""
          step={0.01}
          reset={0}
          text={panned(strip.pan)}
          onhold={(v) => work.holdStrip(strip.id, { pan: v ?? 0 })}
          ondrop={() => void work.drop()}
        />
      </div>
      <div class="line">
        <span class="small">trim</span>
        {@render level('Trim', 'trim_db', -60, 24)}
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
    <div class="stave" bind:this={stave} role="list">
      <i class="wire"></i>
      {#each chain as stage, index (stage.id)}
        <button
          class="gap"
          class:target={target === index && carried !== null}
          aria-label="Add a stage before {stage.kind}"
          onclick={() => (adding = index)}><span>+</span></button
        >
        <Block
          {work}
          {live}
          {stage}
          onchoose={() => choose(stage.id)}
          onmove={(by) => move(stage.id, by < 0 ? index - 1 : index + 2)}
          onlift={(event) => (carried = { id: stage.id, x: event.clientX, from: event.clientX })}
        />
      {/each}
      <button
        class="gap last"
        class:target={target === chain.length && carried !== null}
        aria-label="Add a stage at the end"
        onclick={() => (adding = chain.length)}><span>+</span></button
      >
      {#if adding !== null}
        <div class="menu" role="menu">
          {#each Object.values(work.kinds) as kind (kind.kind)}
            <button role="menuitem" title={kind.doc} onclick={() => add(kind.kind, adding ?? 0)}
              >{kind.title}</button
            >
          {/each}
          <button role="menuitem" class="none" onclick={() => (adding = null)}>Nothing</button>
        </div>
      {/if}
    </div>
  </section>
{/if}

<style>
  .chain {
    display: grid;
    grid-template-columns: 148px 1fr;
    border-bottom: 1px solid var(--hair);
    min-width: 0;
  }
  .head {
    padding: 10px 0 8px 12px;
    display: grid;
    align-content: start;
    gap: 3px;
  }
  .line {
    display: flex;
    gap: 8px;
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
    font-size: 11px;
  }
  .state + .state {
    margin-left: -9px;
  }
  .state.on {
    background: var(--ink);
    color: var(--on-ink);
    font-weight: 700;
  }
  .stave {
    position: relative;
    display: flex;
    align-items: center;
    min-width: 0;
    padding: 0 12px 0 4px;
    overflow: visible;
  }
  .wire {
    position: absolute;
    left: 0;
    right: 12px;
    top: 50%;
    height: 2px;
    margin-top: -1px;
    background: var(--edge);
  }
  .gap {
    position: relative;
    width: 26px;
    height: 60px;
    flex: none;
    text-align: center;
  }
  .gap span {
    display: inline-block;
    width: 16px;
    height: 16px;
    line-height: 14px;
    background: var(--ground);
    border: 1px solid var(--edge);
    color: var(--muted);
    opacity: 0.45;
  }
  .gap:hover span,
  .gap:focus-visible span {
    opacity: 1;
    color: var(--ink);
  }
  .target {
    background: var(--ochre-soft);
  }
  .menu {
    position: absolute;
    z-index: 5;
    left: 8px;
    bottom: 6px;
    display: flex;
    background: var(--field);
    border: 1px solid var(--ink);
  }
  .menu button {
    padding: 4px 12px;
    border-right: 1px solid var(--hair);
  }
  .menu button:hover,
  .menu button:focus-visible {
    background: var(--ink);
    color: var(--on-ink);
  }
  .none {
    color: var(--muted);
  }
</style>
