<script lang="ts">
  import { control } from './control';
  import Choice from '../components/Choice.svelte';
  import Slider from '../components/Slider.svelte';
  import { type Lab, MEASUREMENTS } from '../lib/lab.svelte';
  import type { LabOptions } from '../lib/types';

  interface Props {
    lab: Lab;
    rate: number;
    slots: string[];
  }
  let { lab, rate, slots }: Props = $props();

  const dbfs = { low: -90, high: 12, unit: 'dB', scale: 'db', step: 0.5 } as const;
  const marks = [-90, -60, -36, -12, 12];
  const RULES = [
    control({ name: 'level_db', label: 'Level', doc: 'Peak, dBFS', default: -12, ...dbfs, marks }),
    control({
      name: 'from_db', label: 'Before and after', doc: 'Peak beside the step, dBFS',
      default: -40, ...dbfs, marks,
    }),
    control({
      name: 'hz', label: 'Sine', doc: 'Frequency; of steps and curve, “a constant” is beside it',
      default: 1000, low: 20, high: 20000, unit: 'Hz', scale: 'log', step: 1,
      marks: [20, 100, 1000, 10000],
    }),
  ]; // prettier-ignore
  const RATES = [44100, 48000, 96000, 192000];
  const PRINTED = ['float', '24 bit', '16 bit', '16 bit shaped'];
  const takes = $derived(
    MEASUREMENTS.find(([name]) => name === lab.options.measurement)?.[3] ?? [],
  );
  const constant = $derived(['steps', 'curve'].includes(lab.options.measurement ?? ''));

  function set(change: Partial<LabOptions>): void {
    lab.options = { ...lab.options, ...change };
    lab.soon();
  }
  const rateWords = (hz: number): string => `${hz / 1000}`;
</script>

{#if constant}
  <Choice
    label="Signal"
    options={['sine', 'constant']}
    value={lab.options.hz === 0 ? 'constant' : 'sine'}
    onchoose={(v) => set({ hz: v === 'constant' ? 0 : 1000 })}
  />
{/if}
{#each RULES as rule (rule.name)}
  {#if takes.includes(rule.name as keyof LabOptions) && !(rule.name === 'hz' && lab.options.hz === 0)}
    <Slider
      control={rule}
      value={Number(lab.options[rule.name as 'hz'])}
      onhold={(value) => set({ [rule.name]: value })}
      ondrop={() => lab.soon()}
    />
  {/if}
{/each}
<Choice
  label="Rate, kHz"
  options={RATES.map(rateWords)}
  value={rateWords(lab.options.rate ?? rate)}
  onchoose={(v) => set({ rate: Number(v) * 1000 })}
/>
<Choice
  label="On"
  options={['both', 'left', 'sides']}
  value={lab.options.channel ?? 'both'}
  titles={{ both: 'The same on both sides', left: 'On the left alone', sides: 'Opposed' }}
  onchoose={(v) => set({ channel: v as LabOptions['channel'] })}
/>
<Choice
  label="Printed"
  options={PRINTED}
  value={lab.options.printed ?? 'float'}
  titles={{
    float: 'As it is in the engine',
    '24 bit': 'Rounded as a print, with dither',
    '16 bit': 'Rounded as a print, with dither',
    '16 bit shaped': 'Rounded as a print, with dither, its noise shaped',
  }}
  onchoose={(v) => set({ printed: v as LabOptions['printed'] })}
/>
<Choice
  label="Beside"
  options={['nothing', 'off', ...slots]}
  value={lab.against ?? 'nothing'}
  onchoose={(v) => {
    lab.against = v === 'nothing' ? null : (v as Lab['against']);
    lab.soon();
  }}
/>
