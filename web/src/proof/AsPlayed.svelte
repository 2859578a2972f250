<script lang="ts">
  import Checkbox from '../components/Checkbox.svelte';
  import DragNumber from '../components/DragNumber.svelte';
  import { figure } from '../lib/figures';
  import type { Proving } from '../lib/proving.svelte';

  interface Props {
    proving: Proving;
  }
  let { proving }: Props = $props();

  const { played } = $derived(proving);
  const parts = $derived(proving.proof?.sections ?? []);
  const words = $derived.by(() => {
    if (!played) return '';
    const gain =
      Math.abs(played.gain_db) < 0.05
        ? 'as it is'
        : `${played.gain_db < 0 ? 'down' : 'up'} ${figure(Math.abs(played.gain_db), 1)} dB`;
    const limiter =
      played.limited_db > 0.05
        ? `its limiter takes up to ${figure(played.limited_db, 1)} dB`
        : 'limiter idle';
    return `Turned ${gain}, ${limiter}.`;
  });
</script>

<section>
  <h2>As a service plays it</h2>
  <p>
    everything turned to
    <DragNumber
      label="The service turns to"
      value={proving.service.loudness}
      low={-40}
      high={0}
      unit="LUFS"
      reset={-14}
      onhold={(v) => proving.setService({ loudness: Math.round(10 * (v ?? -14)) / 10 })}
      ondrop={() => undefined}
    />
  </p>
  <Checkbox
    on={proving.service.up}
    label="quiet songs turned up too"
    onswitch={(up) => proving.setService({ up })}
  />
  <Checkbox
    on={proving.service.limits}
    label="with a limiter when up"
    onswitch={(limits) => proving.setService({ limits })}
  />
  {#if played}
    <p>
      {words}
      {#if played.true_peak_dbtp != null}Peaks at <b>{figure(played.true_peak_dbtp, 1)} dBTP</b
        >.{/if}
    </p>
    {#if parts.length}
      <table>
        <thead><tr><th>LUFS</th><th>mix</th><th>as played</th></tr></thead>
        <tbody>
          {#each parts as part (part.begin)}
            <tr>
              <th>{part.name}</th>
              <td>{part.integrated_lufs == null ? '–' : figure(part.integrated_lufs, 1)}</td>
              <td
                ><b
                  >{part.integrated_lufs == null
                    ? '–'
                    : figure(part.integrated_lufs + played.gain_db, 1)}</b
                ></td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    {/if}
  {/if}
</section>

<style>
  section {
    display: grid;
    gap: var(--s1);
    justify-items: start;
  }
  p {
    font-size: var(--note);
    color: var(--slate);
  }
  table {
    width: 100%;
    border-collapse: collapse;
    font-size: var(--note);
  }
  th {
    text-align: left;
    font-weight: 400;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  thead th {
    color: var(--slate);
  }
  td,
  thead th:not(:first-child) {
    text-align: right;
  }
  tbody tr {
    border-top: 1px solid var(--hair);
  }
</style>
