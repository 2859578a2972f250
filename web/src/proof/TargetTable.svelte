<script lang="ts">
  import { figure } from '../lib/figures';
  import type { Proving } from '../lib/proving.svelte';

  interface Props {
    proving: Proving;
  }
  let { proving }: Props = $props();

  const lines = $derived(proving.proof?.lines ?? []);
  const measured = $derived(proving.proof?.target.name ?? proving.target?.name ?? 'target');
</script>

<div>
  <table aria-label="Measured against the target">
    <thead>
      <tr>
        <th>{proving.proof?.what ?? 'as it stands'}</th>
        <th class="number">measured</th>
        <th class="number" colspan="2">{measured}</th>
      </tr>
    </thead>
    <tbody>
      {#each lines as line (line.label)}
        <tr>
          <th>{line.label} {line.unit}</th>
          <td class="number"><b>{line.measured == null ? '–' : figure(line.measured, 1)}</b></td>
          <td class="number">{line.wanted}</td>
          <td class="number" class:missed={line.kept === false}
            >{line.kept === null ? 'no limit' : line.kept ? 'on target' : 'missed'}</td
          >
        </tr>
      {:else}
        {#each ['Loudness LUFS', 'True peak dBTP', 'Range LU', 'Peak to loudness LU', 'Short-term, most LUFS', 'Momentary, most LUFS'] as label (label)}
          <tr><th>{label}</th><td class="number">–</td><td></td><td></td></tr>
        {/each}
      {/each}
    </tbody>
  </table>
  {#if proving.target?.note}<p>{proving.target.note}</p>{/if}
</div>

<style>
  table {
    width: 100%;
    border-collapse: collapse;
    align-self: start;
  }
  th {
    text-align: left;
    font-weight: 400;
    white-space: nowrap;
  }
  thead th {
    color: var(--slate);
    font-size: var(--note);
  }
  tbody tr {
    border-top: 1px solid var(--hair);
  }
  td,
  tbody th {
    padding: 0;
    line-height: 1.45;
  }
  .number {
    text-align: right;
    padding-left: var(--s3);
    white-space: nowrap;
  }
  .missed {
    font-weight: 700;
  }
  p {
    padding-top: var(--s1);
    color: var(--muted);
    font-size: var(--small);
    line-height: 1.25;
  }
</style>
