<script lang="ts">
  import Choice from '../../components/Choice.svelte';
  import Slider from '../../components/Slider.svelte';
  import { splitTitle } from '../../lib/chain';
  import type { Live } from '../../lib/live.svelte';
  import type { Split } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import BandPicture from '../pictures/BandPicture.svelte';
  import BlendPicture from '../pictures/BlendPicture.svelte';
  import type { Aiming } from '../../lib/aiming.svelte';
  import AimBox from './AimBox.svelte';
  import BranchRows from './BranchRows.svelte';
  import MovingNumber from '../../components/MovingNumber.svelte';
  import MovingSlider from '../../components/MovingSlider.svelte';
  import { hertz } from '../../lib/figures';

  interface Props {
    work: Work;
    live: Live;
    aiming: Aiming;
    split: Split;
  }
  let { work, live, aiming, split }: Props = $props();

  const laws = $derived(
    split.branches.length !== 2
      ? ['sum']
      : split.by === 'copies' || split.by === 'bands'
        ? ['sum', 'linear', 'equal-power', 'steady']
        : ['sum', 'linear', 'equal-power'],
  );

  type Change = { slope?: 24 | 48; phase?: 'minimum' | 'linear'; law?: Split['join']['law'] };
  function set(change: Change): void {
    void work.edit({ type: 'set_split', split: split.id, ...change });
  }
</script>

<section class="panel" aria-label="{splitTitle(split)} on {work.strip?.name}">
  <header>
    <h2>{splitTitle(split)}</h2>
    <span class="where"
      >on {work.strip?.name}{work.branch ? `, hearing ${work.branch.name}` : ''}</span
    >
    <span class="space"></span>
    {#if split.by === 'copies' || (split.by === 'bands' && split.branches.length < 5)}
      <button onclick={() => void work.edit({ type: 'add_branch', split: split.id })}
        >add a {split.by === 'bands' ? 'band' : 'copy'}</button
      >
    {/if}
    <button
      title="The stages stay, in order"
      onclick={() => void work.edit({ type: 'remove_split', split: split.id })}
      >take the split away</button
    >
    <button onclick={() => void work.edit({ type: 'remove_stage', stage: split.id })}
      >take all away</button
    >
  </header>
  <div>
    {#if aiming.open}<AimBox {aiming} />{/if}
  </div>
  <div class="body" class:bands={split.by === 'bands'}>
    <div class="picture">
      {#if split.by === 'bands'}
        <BandPicture {work} {live} {split} />
      {:else if split.join.law !== 'sum'}
        <BlendPicture
          {work}
          name={split.id}
          law={split.join.law}
          position={work.moving(split.id, 'position') ?? split.join.position}
          names={split.branches.map((b) => b.name)}
          onhold={(x) => work.holdPosition(split.id, x)}
        />
      {:else}
        <p class="words">
          {split.by === 'copies'
            ? 'The branches are added. Choose a law to move between two of them instead.'
            : 'Both are put together again exactly as they were divided.'}
        </p>
      {/if}
    </div>
    <div class="settings">
      {#if split.by === 'bands'}
        <Choice
          label="Slope, dB per octave"
          options={['24', '48']}
          value={String(split.slope)}
          onchoose={(v) => set({ slope: Number(v) as 24 | 48 })}
        />
        <Choice
          label="Phase"
          options={['minimum', 'linear']}
          value={split.phase}
          titles={{
            minimum: 'No latency; the bands add up flat, as one all-pass',
            linear: 'Adds up to the input itself; costs latency',
          }}
          onchoose={(v) => set({ phase: v as Split['phase'] })}
        />
      {/if}
      {#if split.by === 'bands' && split.phase === 'minimum'}
        <div class="corners">
          <span>Crossovers</span>
          {#each split.crossovers_hz as hz, i (i)}
            <MovingNumber
              of={work.movable(split.id, `crossovers_hz.${i}`)}
              label="Frequency of crossover {i + 1}"
              value={hz}
              words={hertz}
              onhold={(v) => work.holdCorners(split.id, split.crossovers_hz.with(i, v))}
            />
          {/each}
        </div>
      {/if}
      {#if laws.length > 1}
        <Choice
          label="Join"
          options={laws}
          value={split.join.law}
          titles={{
            sum: 'Every branch at its own gain, added',
            linear: 'From one to the other, for signals that are alike',
            'equal-power': 'From one to the other, for signals that are not alike',
            steady: 'As loud as the first at every position: measured over the song',
          }}
          onchoose={(v) => set({ law: v as Split['join']['law'] })}
        />
      {/if}
      {#if split.join.law !== 'sum'}
        <MovingSlider
          of={work.movable(split.id, 'position')}
          value={split.join.position}
          onhold={(x) => work.holdPosition(split.id, x)}
        />
      {/if}
      <MovingSlider
        of={work.movable(split.id, 'mix')}
        value={split.mix}
        onhold={(x) => work.holdMix(split, x)}
        onaim={() => aiming.showFor('mix')}
      />
    </div>
    <BranchRows {work} {live} {split} />
  </div>
</section>

<style>
  .corners {
    display: flex;
    flex-wrap: wrap;
    gap: var(--s1) var(--s2);
    font-size: var(--note);
  }
  .corners > span {
    color: var(--slate);
  }
  .panel {
    display: grid;
    grid-template-rows: 30px auto minmax(0, 1fr);
    padding: var(--s1) 14px;
    min-height: 0;
    overflow-y: auto;
  }
  header {
    display: flex;
    align-items: baseline;
    gap: 14px;
    white-space: nowrap;
  }
  h2 {
    font-size: var(--heading);
  }
  .where {
    color: var(--muted);
  }
  .space {
    flex: 1;
  }
  header button {
    color: var(--slate);
    font-size: var(--note);
    border-bottom: 1px dotted currentColor;
  }
  .body {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 250px;
    grid-template-rows: auto auto;
    gap: 6px 20px;
    align-content: start;
  }
  .picture {
    height: 176px;
    min-width: 0;
  }
  .settings {
    display: grid;
    align-content: start;
    gap: 6px;
  }
  .words {
    padding: var(--s5);
    color: var(--muted);
  }
  .body > :global(.rows) {
    grid-column: 1 / -1;
  }
</style>
