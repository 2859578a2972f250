<script lang="ts">
  import Choice from '../components/Choice.svelte';
  import Rule from '../components/Rule.svelte';
  import Scrub from '../components/Scrub.svelte';
  import Tick from '../components/Tick.svelte';
  import type { Live } from '../lib/live.svelte';
  import type { Control, ParamValue, Slot, Stage } from '../lib/types';
  import type { Work } from '../lib/work.svelte';
  import CurvePicture from './CurvePicture.svelte';
  import HitsPicture from './HitsPicture.svelte';

  interface Props {
    work: Work;
    live: Live;
  }
  let { work, live }: Props = $props();

  const SIDES = [
    ['low_hz', 'from'],
    ['high_hz', 'to'],
  ] as const;
  const LAST = ['rms_ms', 'release_bpm'];
  const stage = $derived(work.stage);
  const kind = $derived(work.kind);
  const mix: Control = {
    name: 'mix',
    label: 'Mix',
    type: 'number',
    default: 1,
    low: 0,
    high: 1,
    unit: '',
    scale: 'linear',
    step: 0.01,
    change: 'glide',
    marks: [0, 0.25, 0.5, 0.75, 1],
    choices: [],
    optional: false,
    when: {},
    doc: 'Share of the processed sound; the rest is the dry sound, in step with it.',
  };
  const shownControls = $derived(
    (kind?.controls ?? []).filter(
      (c) =>
        (c.type === 'number' || c.choices.length > 4) && stage && work.applies(c, stage.params),
    ),
  );
  // What comes and goes with a choice stands behind the mix, so that nothing else moves; the
  // release's note takes the release's own place.
  const steady = $derived(shownControls.filter((c) => !LAST.includes(c.name)));
  const passing = $derived(shownControls.filter((c) => LAST.includes(c.name)));
  const choices = $derived(
    (kind?.controls ?? []).filter((c) => c.type === 'choice' && c.choices.length <= 4),
  );
  const switches = $derived((kind?.controls ?? []).filter((c) => c.type === 'switch'));
  let mixHeld = $state<number | null>(null);

  function others(name: string): Partial<Record<Slot, ParamValue>> {
    const found: Partial<Record<Slot, ParamValue>> = {};
    for (const [slot, params] of Object.entries(stage?.slots ?? {})) {
      if (slot !== stage?.slot && params?.[name] !== stage?.params[name]) {
        found[slot as Slot] = params?.[name] ?? null;
      }
    }
    return found;
  }

  function filter(side: 'low_hz' | 'high_hz', value: number | null): void {
    if (stage) keyDraft = { ...(keyDraft ?? stage.key), [side]: value };
  }
  let keyDraft =
    $state<typeof work.stage extends null ? never : NonNullable<typeof work.stage>['key'] | null>(
      null,
    );
  const key = $derived(keyDraft ?? stage?.key);

  async function dropKey(): Promise<void> {
    if (!stage || !keyDraft) return;
    await work.edit({ type: 'set_stage', stage: stage.id, key: keyDraft });
    keyDraft = null;
  }

  function frequency(value: number | null | undefined): string {
    if (value === null || value === undefined) return 'open';
    return value >= 1000 ? `${(value / 1000).toFixed(2)} kHz` : `${value.toFixed(0)} Hz`;
  }
</script>

{#snippet one(control: Control)}
  {#if control.type === 'number'}
    <Rule
      {control}
      value={stage?.params[control.name] ?? null}
      others={others(control.name)}
      onhold={(value) => work.hold(control.name, value)}
      ondrop={() => void work.drop()}
    />
  {:else}
    <label class="note" title={control.doc}
      >{control.label}
      <select
        value={String(stage?.params[control.name])}
        onchange={(e) => void work.set(control.name, e.currentTarget.value)}
      >
        {#each control.choices as choice (choice)}<option value={choice}
            >{choice.replace('t', ' triplet').replace(/\.$/, ' dotted')}</option
          >{/each}
      </select>
    </label>
  {/if}
{/snippet}

{#if stage && kind}
  <section class="panel" aria-label="{kind.title} on {work.strip?.name}">
    <header>
      <h2>{kind.title}</h2>
      <span class="where">on {work.strip?.name}</span>
      {#if work.tried}
        <span class="tried" role="status">
          trying “{work.tried.name}”: {work.tried.note} <b>Enter</b> keeps, <b>Esc</b> restores
        </span>
      {:else}
        <span class="steps">
          starting points
          <button onclick={() => work.tryPoint(-1)} aria-label="Previous starting point">[</button>
          <button onclick={() => work.tryPoint(1)} aria-label="Next starting point">]</button>
        </span>
      {/if}
      <span class="space"></span>
      {#if kind.listens && key}
        <span class="key"
          >key: own,
          {#each SIDES as [side, words] (side)}
            <span>{words}</span>
            <Scrub
              label="Key filter {words}"
              value={key[side] ?? null}
              low={10}
              high={20000}
              unit="Hz"
              step={1}
              log
              reset={null}
              text={frequency(key[side])}
              onhold={(v) => filter(side, v)}
              ondrop={() => void dropKey()}
            />
          {/each}</span
        >
      {/if}
      <button
        class="quiet"
        onclick={() => void work.edit({ type: 'remove_stage', stage: stage.id })}>Take away</button
      >
    </header>
    <div class="left">
      {#if kind.level_line}
        <div class="pictures">
          <CurvePicture {work} {live} />
          <HitsPicture {work} {live} />
        </div>
      {/if}
      <div class="choices">
        {#each choices as control (control.name)}
          <Choice
            label={control.label}
            options={control.choices}
            value={String(stage.params[control.name])}
            titles={Object.fromEntries(control.choices.map((c) => [c, control.doc]))}
            onchoose={(value) => void work.set(control.name, value)}
          />
        {/each}
        {#each switches as control (control.name)}
          <div class="switch">
            <Tick
              on={Boolean(stage.params[control.name])}
              label={control.label}
              title={control.doc}
              onswitch={(on) => void work.set(control.name, on)}
            />
          </div>
        {/each}
      </div>
    </div>
    <div class="rules">
      {#each steady as control (control.name)}{@render one(control)}{/each}
      <Rule
        control={mix}
        value={mixHeld ?? stage.mix}
        onhold={(value) => {
          mixHeld = value;
          live.send({
            type: 'preview',
            edits: [{ type: 'set_stage', stage: stage.id, mix: value }],
          });
        }}
        ondrop={() => {
          if (mixHeld === null) return;
          const value = mixHeld;
          void work
            .edit({ type: 'set_stage', stage: stage.id, mix: value })
            .then(() => (mixHeld = null));
        }}
      />
      {#each passing as control (control.name)}{@render one(control)}{/each}
    </div>
  </section>
{:else if work.strip}
  <section class="panel empty">
    <p>
      Nothing on the chain of {work.strip.name} yet. Add a stage with + on its stave, or
      <button
        class="link"
        onclick={() =>
          void work.edit({
            type: 'add_stage',
            strip: work.stripId,
            index: 0,
            kind: 'compressor',
            params: {},
          })}>add a compressor</button
      >.
    </p>
  </section>
{/if}

<style>
  .panel {
    display: grid;
    grid-template-columns: 414px minmax(0, 1fr);
    grid-template-rows: 30px minmax(0, 1fr);
    gap: 0 20px;
    padding: 4px 14px 4px;
    min-height: 0;
    overflow-y: auto;
  }
  header {
    grid-column: 1 / -1;
    display: flex;
    align-items: baseline;
    gap: 12px;
    min-width: 0;
    white-space: nowrap;
  }
  h2 {
    font-size: 15px;
  }
  .where,
  .steps,
  .quiet {
    color: var(--muted);
  }
  .steps button {
    padding: 0 6px;
    border: 1px solid var(--hair);
  }
  .tried {
    color: var(--ochre);
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .space {
    flex: 1;
  }
  .key {
    display: inline-flex;
    gap: 5px;
    color: var(--key);
  }
  .quiet:hover {
    color: var(--ink);
    text-decoration: underline;
  }
  .left {
    display: grid;
    align-content: start;
    gap: 8px;
    min-width: 0;
  }
  .pictures {
    display: grid;
    grid-template-columns: 216px 190px;
    gap: 8px;
    height: 200px;
  }
  .choices {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 4px 8px;
    font-size: 12px;
  }
  .switch {
    align-self: end;
    padding-bottom: 3px;
  }
  .rules {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 3px 24px;
    align-content: start;
    min-width: 0;
  }
  .note {
    display: flex;
    justify-content: space-between;
    align-items: start;
    color: var(--slate);
  }
  select {
    background: var(--field);
    border: 1px solid var(--hair);
    color: var(--ink);
  }
  @media (max-width: 1100px) {
    .panel {
      grid-template-columns: 216px minmax(0, 1fr);
    }
    .pictures {
      grid-template-columns: 216px;
    }
    .pictures > :global(figure + figure) {
      display: none;
    }
    .choices {
      grid-template-columns: 1fr;
    }
    .rules {
      gap: 3px 16px;
    }
  }
  .empty {
    display: block;
    padding: 24px 14px;
    color: var(--muted);
  }
  .link {
    color: var(--ink);
    text-decoration: underline;
  }
</style>
