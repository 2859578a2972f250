<script lang="ts">
  import type { Blind } from '../../lib/blind.svelte';
  import { SLOTS, type Compare } from '../../lib/compare.svelte';
  import { figure, signed } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import type { CompareRow } from '../../lib/types';
  import SettingName from './SettingName.svelte';

  interface Props {
    live: Live;
    compare: Compare;
    blind: Blind;
  }
  let { live, compare, blind }: Props = $props();

  const ranges = ['lows', '150', '800', '5k'];
  function number(value: number | null | undefined, sign = false): string {
    if (value === null || value === undefined) return '–';
    return sign ? signed(value) : figure(value, 1);
  }
</script>

{#snippet figures(row: CompareRow | null)}
  <td class="plays">{row?.plays_db == null ? '–' : signed(row.plays_db)}</td>
  <td>{number(row?.figures?.integrated_lufs)}</td>
  <td>{number(row?.figures?.true_peak_dbtp)}</td>
  <td>{number(row?.figures?.peak_to_loudness_db)}</td>
  <td>{number(row?.figures?.loudness_range_lu)}</td>
  <td class="far">{number(row?.louder_by, true)}</td>
  {#each ranges as name, i (name)}
    <td class="far">{row?.slot === 'in' ? '' : number(row?.ranges_db[i], true)}</td>
  {/each}
{/snippet}

<table>
  <thead>
    <tr>
      <td class="letter"></td>
      <th class="words">{live.transport.loop ? 'in the loop' : 'whole song'}</th>
      <th>plays<br />dB</th>
      <th>loudness<br />LUFS</th>
      <th>true peak<br />dBTP</th>
      <th>peak to<br />loudness</th>
      <th>range<br />LU</th>
      <th class="far">loud to<br />quiet LU</th>
      {#each ranges as name, i (name)}
        <th class="far">{i === 0 ? 'balance' : ''}<br />{name}</th>
      {/each}
    </tr>
  </thead>
  <tbody>
    <tr class:heard={compare.heard === 'in' && !blind.running}>
      <th class="letter">
        <button onclick={() => live.hear('in')} aria-pressed={compare.heard === 'in'}
          >in <kbd>X</kbd></button
        >
      </th>
      <td class="words"><b>before {compare.kind === 'stage' ? 'the stage' : 'the chain'}</b></td>
      {@render figures(compare.row('in'))}
    </tr>
    {#each SLOTS as slot, i (slot)}
      {@const row = compare.row(slot)}
      {@const there = compare.letters.includes(slot)}
      <tr class:heard={compare.heard === slot && !blind.running} data-setting={slot}>
        <th class="letter">
          <button
            onclick={() => compare.choose(slot)}
            aria-pressed={compare.heard === slot}
            title={there ? 'Hear this one' : 'Go on from a copy'}>{slot} <kbd>⇧{i + 1}</kbd></button
          >
        </th>
        {#if there}
          <td class="words">
            <SettingName
              {slot}
              name={compare.name(slot)}
              onname={(name) => compare.rename(slot, name)}
            />
            {#if row?.problem}
              <span class="said">{row.problem}</span>
            {:else if slot === compare.against}
              <span class="said">what the others are compared with</span>
            {:else if row}
              <span class="said" title={row.words.join('; ')}
                >{row.words.join('; ') || 'no difference'}</span
              >
            {/if}
          </td>
          {@render figures(row)}
        {:else}
          <td class="words" colspan="11">
            <span class="said">empty:</span>
            {#each compare.letters as source (source)}
              <button class="act" onclick={() => compare.copy(source, slot)}
                >copy {source} here</button
              >
            {/each}
          </td>
        {/if}
      </tr>
    {/each}
  </tbody>
</table>

<style>
  table {
    width: 100%;
    border-collapse: collapse;
    font-size: var(--note);
  }
  th,
  td {
    text-align: right;
    vertical-align: top;
    padding: 5px 0 5px 10px;
    border-bottom: 1px solid var(--hair);
    white-space: nowrap;
  }
  .said,
  thead th {
    color: var(--muted);
    font-weight: 400;
  }
  thead th {
    vertical-align: bottom;
    padding-top: 0;
    line-height: 1.2;
  }
  .letter {
    text-align: left;
    padding-left: 0;
    width: 52px;
  }
  .letter button {
    font-weight: 600;
    font-size: var(--heading);
    line-height: 1.1;
    color: var(--ochre);
  }
  tbody tr:first-child .letter button {
    color: inherit;
  }
  kbd {
    font: inherit;
    font-size: var(--mark);
    font-weight: 400;
    color: var(--muted);
    border: 1px solid var(--hair);
    padding: 0 3px;
  }
  td.words {
    text-align: left;
    white-space: normal;
    width: 46%;
  }
  th.words {
    text-align: left;
  }
  .said {
    display: -webkit-box;
    -webkit-box-orient: vertical;
    -webkit-line-clamp: 2;
    line-clamp: 2;
    overflow: hidden;
  }
  .words > .said:first-child {
    display: inline;
  }
  .act {
    margin-left: var(--s2);
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  .plays {
    font-weight: 600;
  }
  .heard {
    background: var(--ink);
    color: var(--on-ink);
  }
  .heard :is(.said, kbd, .letter button) {
    color: inherit;
  }
  .heard td:last-child {
    box-shadow: 6px 0 0 var(--ink);
  }
  .heard th:first-child {
    box-shadow: -6px 0 0 var(--ink);
  }
  @media (max-width: 1100px) {
    .far {
      display: none;
    }
    /* The last one that is left. */
    .heard td:nth-last-child(6) {
      box-shadow: 6px 0 0 var(--ink);
    }
  }
</style>
