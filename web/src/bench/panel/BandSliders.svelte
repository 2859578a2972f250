<script lang="ts">
  import Choice from '../../components/Choice.svelte';
  import Slider from '../../components/Slider.svelte';
  import Checkbox from '../../components/Checkbox.svelte';
  import { bandsOf, changedBand, freshBand, hzOf, SHORT } from '../../lib/bands';
  import { hertz } from '../../lib/figures';
  import type { BandValue, Control } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';

  interface Props {
    work: Work;
    control: Control;
  }
  let { work, control }: Props = $props();

  const bands = $derived(bandsOf(work.stage?.params, control));
  const index = $derived(Math.min(work.bandIndex, bands.length - 1));
  const band = $derived(bands[index]);
  const fields = $derived(
    (control.fields ?? []).filter((field) => band && work.applies(field, band)),
  );
  const numbers = $derived(fields.filter((field) => field.type === 'number'));
  const choices = $derived(fields.filter((field) => field.type === 'choice'));
  const MOVING = ['threshold_db', 'attack_ms', 'release_ms'];
  const shown = $derived(numbers.filter((f) => !MOVING.includes(f.name) || band?.move_db));

  const owner = $derived(work.stage?.id ?? '');
  // With linear or intermediate phase, bands are one filter that stands.
  const still = $derived((work.stage?.params['phase'] ?? 'minimum') !== 'minimum');

  const next = (name: string, value: BandValue): ReturnType<typeof changedBand> =>
    changedBand(bands, index, () => ({ [name]: value }));

  function add(): void {
    const last = bands[bands.length - 1];
    const hz = last ? Math.min(hzOf(last) * 3, 12000) : 200;
    work.bandIndex = bands.length;
    void work.set(control.name, [...bands, freshBand(control, { type: 'bell', hz })]);
  }

  function remove(): void {
    const rest = bands.filter((_, i) => i !== index);
    work.bandIndex = Math.max(index - 1, 0);
    void work.set(control.name, rest);
  }
</script>

<div class="bands" role="toolbar" aria-label={control.label}>
  <span class="label">{control.label}</span>
  {#each bands as one, i (i)}
    <button
      class:chosen={i === index}
      class:off={one.on === false}
      aria-pressed={i === index}
      title="{SHORT[String(one.type)]} at {hertz(hzOf(one))}"
      onclick={() => (work.bandIndex = i)}>{i + 1}</button
    >
  {/each}
  {#if bands.length < (control.most ?? 12)}
    <button onclick={add} aria-label="Add a band" title="Add a band">+</button>
  {/if}
  {#if band}
    <Checkbox
      on={band.on !== false}
      label="band on"
      onswitch={(on) => void work.set(control.name, next('on', on))}
    />
    <button class="away" onclick={remove}>take this band away</button>
  {/if}
</div>
{#if band}
  {#each choices as field (field.name)}
    <div class="choice" class:wide={field.choices.length > 4}>
      <Choice
        label={field.label}
        options={field.choices}
        value={String(band[field.name])}
        titles={Object.fromEntries(field.choices.map((c) => [c, field.doc]))}
        onchoose={(value) => void work.set(control.name, next(field.name, value))}
      />
    </div>
  {/each}
  {#each shown as field (field.name)}
    {@const place = `${control.name}.${index}.${field.name}`}
    <Slider
      control={field}
      value={work.moving(owner, place) ?? band[field.name] ?? null}
      moves={work.laneOf(owner, place) !== null}
      onlane={still ? undefined : () => (work.lane = { owner, control: place })}
      onhold={(value) => work.hold(control.name, next(field.name, value))}
      ondrop={() => void work.drop()}
    />
  {/each}
{/if}

<style>
  .bands {
    grid-column: 1 / -1;
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: var(--s1);
    min-height: 24px;
  }
  .label {
    color: var(--slate);
    margin-right: 6px;
  }
  .bands > button {
    min-width: 22px;
    padding: 1px 5px;
    border: 1px solid var(--hair);
  }
  .bands > .chosen {
    background: var(--ink);
    color: var(--field);
  }
  .bands > .off {
    text-decoration: line-through;
  }
  .bands > .away {
    border: 0;
    font-size: var(--note);
    color: var(--slate);
    border-bottom: 1px dotted currentColor;
  }
  .choice {
    font-size: var(--note);
  }
  .choice.wide {
    grid-column: 1 / -1;
  }
</style>
