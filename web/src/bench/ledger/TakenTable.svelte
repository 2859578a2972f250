<!-- What a place takes: by section, over the passage, and the most by one stage alone. -->
<script lang="ts">
  import { figure } from '../../lib/figures';
  import type { Ledger, Reduction } from '../../lib/types';

  interface Props {
    ledger: Ledger;
    /** The passage: in words, and where it ends. */
    passage: string;
    end: number;
    /** Where each section ends. */
    ends: Record<string, number>;
    /** Up to which frame is measured: what lies behind it is not known yet, and not 0. */
    known: number;
    /** A single stage is looked at: what it takes is what it tells itself. */
    stageAlone: boolean;
  }
  let { ledger, passage, end, ends, known, stageAlone }: Props = $props();
</script>

{#snippet row(name: string, taken: Reduction, to: number)}
  <tr>
    <th>{name}</th>
    {#each [taken.median, taken.p95, taken.most] as value, i (i)}
      <td>{to <= known ? figure(value, 1) : '–'}</td>
    {/each}
    <td>{to <= known ? figure(100 * taken.active, 0) : '–'}</td>
  </tr>
{/snippet}

<table class="taken">
  <thead>
    <tr title="While it reduces; time: the share of the time that it does, in %">
      <th>Taken, dB</th><th>median</th><th>95 %</th><th>most</th><th>time</th>
    </tr>
  </thead>
  <tbody>
    {#each ledger.sections as section (section.name)}
      {@render row(section.name, section.reduction, ends[section.name] ?? 0)}
    {/each}
    {@render row(passage, ledger.reduction, end)}
    {#if ledger.strongest && !stageAlone}
      <tr title="The rows above are the whole place: level in against level out, make-up apart">
        <th colspan="4">one stage alone: {ledger.strongest[0]}</th>
        <td>{figure(Number(ledger.strongest[1]), 1)}</td>
      </tr>
    {/if}
  </tbody>
</table>
