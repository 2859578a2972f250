<script lang="ts">
  import MovingNumber from '../components/MovingNumber.svelte';
  import Levers from '../desk/Levers.svelte';
  import ListeningMap from '../desk/ListeningMap.svelte';
  import StripRow from '../desk/StripRow.svelte';
  import type { Live } from '../lib/live.svelte';
  import { standing } from '../lib/standing';
  import type { Strip } from '../lib/types';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    onopen: () => void;
    onfiles: (files: File[]) => void;
  }
  let { work, live, onopen, onfiles }: Props = $props();

  let file: HTMLInputElement | undefined = $state();
  let nameField: HTMLInputElement | undefined = $state();
  const strips = $derived(work.model?.strips ?? []);
  const soloed = $derived(strips.filter((s) => s.solo).map((s) => s.name));
  const groups = $derived(grouped(strips));

  /** Buses in order, each behind the tracks that feed it; the main bus last. */
  function grouped(all: Strip[]): { strip: Strip; deep: number }[] {
    const main = all.find((s) => s.kind === 'main');
    const found: { strip: Strip; deep: number }[] = [];
    const place = (bus: Strip, deep: number): void => {
      if (found.some((f) => f.strip.id === bus.id)) return;
      const feeds = all.filter(
        (s) => s.id !== bus.id && s.kind !== 'main' && (s.output ?? main?.id) === bus.id,
      );
      for (const strip of feeds) {
        if (strip.kind === 'track') found.push({ strip, deep: deep + 1 });
        else place(strip, deep + 1);
      }
      found.push({ strip: bus, deep });
    };
    if (main) place(main, 0);
    return found;
  }

  function addBus(): void {
    const count = strips.filter((s) => s.kind === 'bus').length + 1;
    void work.edit({ type: 'add_strip', strip: { name: `Bus ${count}`, kind: 'bus' } });
  }

  function remove(): void {
    if (work.strip) void work.edit({ type: 'remove_strip', strip: work.strip.id });
  }
</script>

<main class="desk">
  <header>
    <button onclick={() => file?.click()}>add tracks…</button>
    <button onclick={addBus}>add a bus</button>
    {#if work.strip && work.strip.kind !== 'main'}
      <span class="small">name</span>
      <input
        class="rename"
        aria-label="Name of the selected strip"
        maxlength="80"
        bind:this={nameField}
        value={work.strip.name}
        {@attach standing(
          () => work.strip?.name ?? '',
          (value) => work.edit({ type: 'set_strip', strip: work.stripId, field: 'name', value }),
        )}
      />
      <button onclick={remove}>take {work.strip.name} away</button>
    {/if}
    {#if work.strip && work.strip.kind !== 'track'}
      <label class="join"
        >inputs of {work.strip.name} joined
        <select
          aria-label="Join of {work.strip.name}"
          value={work.strip.join.law}
          {@attach standing(
            () => work.strip?.join.law ?? 'sum',
            (law) =>
              work.edit({
                type: 'set_bus_join',
                strip: work.stripId,
                law: law as Strip['join']['law'],
              }),
          )}
        >
          {#each ['sum', 'linear', 'equal-power', 'steady'] as law (law)}
            <option value={law}>{law}</option>
          {/each}
        </select>
        {#if work.strip.join.law !== 'sum'}
          <MovingNumber
            of={work.movable(work.stripId, 'position')}
            label="Join position of {work.strip.name}"
            value={work.strip.join.position}
            words={(x) => `${Math.round(100 * x)} %`}
            onhold={(x) => work.holdPosition(work.stripId, x, true)}
            onlane={onopen}
          />
        {/if}
      </label>
    {/if}
    <span class="space"></span>
    {#if soloed.length}<b>Solo is on: {soloed.join(', ')}</b>{/if}
    <input
      bind:this={file}
      type="file"
      multiple
      hidden
      accept="audio/*,.wav,.flac,.aiff,.ogg,.mp3"
      onchange={() => onfiles([...(file?.files ?? [])])}
    />
  </header>
  <div class="room">
    <div class="rows">
      <div class="legend">
        <span>strip</span><span></span><span>fader</span><span>level, taken</span><span>pan</span
        ><span>output</span><span>sends</span>
      </div>
      {#each groups as { strip, deep } (strip.id)}
        <div class="deep" style:--deep={deep} class:bus={strip.kind !== 'track'}>
          <StripRow
            {work}
            {live}
            {strip}
            {onopen}
            onrename={() => setTimeout(() => nameField?.select())}
          />
        </div>
      {/each}
    </div>
    <ListeningMap
      strips={work.model?.strips ?? []}
      titleOf={work.titleOf}
      onselect={(strip, stage) => work.select(strip, stage)}
    />
  </div>
  <Levers {work} {onopen} />
</main>

<style>
  .desk {
    display: grid;
    grid-template-rows: auto minmax(0, 1fr) auto;
    min-height: 0;
  }
  header {
    display: flex;
    flex-wrap: wrap;
    gap: 0 var(--s4);
    align-items: center;
    padding: var(--s1) var(--s3);
    min-height: 34px;
    font-size: var(--note);
    border-bottom: 1px solid var(--hair);
  }
  header button {
    color: var(--slate);
    border-bottom: 1px dotted currentColor;
  }
  .small {
    color: var(--muted);
    margin-right: -10px;
  }
  .rename {
    width: 110px;
    border-bottom: 1px dotted var(--edge);
  }
  .join select {
    background: var(--field);
    border: 1px solid var(--hair);
  }
  .space {
    flex: 1;
  }
  .room {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 250px;
    grid-template-rows: auto;
    align-content: start;
    overflow-y: auto;
  }
  .legend {
    position: sticky;
    top: 0;
    z-index: 2;
    display: grid;
    grid-template-columns: 132px 42px 262px 100px 66px 116px minmax(0, 1fr);
    gap: 0 14px;
    padding: 2px var(--s3);
    color: var(--muted);
    font-size: var(--small);
    background: var(--ground);
    border-bottom: 1px solid var(--hair);
  }
  .bus {
    border-bottom: 1px solid var(--edge);
    font-weight: 600;
  }
  @media (max-width: 1100px) {
    .room {
      grid-template-columns: minmax(0, 1fr);
    }
  }
  .deep :global(.row > .name) {
    padding-left: calc(10px * var(--deep));
  }
</style>
