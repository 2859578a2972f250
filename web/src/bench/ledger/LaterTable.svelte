<!-- What a later stage is left to take, now and where it differs before the change. -->
<script lang="ts">
  import { figure } from '../../lib/figures';
  import type { Later } from '../../lib/types';

  interface Props {
    later: Later;
  }
  let { later }: Props = $props();

  const rows = $derived([
    ...(later.before ? [{ name: 'before', taken: later.before }] : []),
    { name: 'now', taken: later.now },
  ]);
</script>

<table class="later" aria-label="What {later.stage} on {later.strip} still takes">
  <thead>
    <tr><th colspan="4">{later.stage} on {later.strip} takes, dB</th></tr>
  </thead>
  <tbody>
    {#each rows as { name, taken } (name)}
      <tr>
        <th>{name}</th>
        <td title="median">{figure(taken.median, 1)}</td>
        <td title="95 %">{figure(taken.p95, 1)}</td>
        <td title="most">{figure(taken.most, 1)}</td>
      </tr>
    {/each}
  </tbody>
</table>

<style>
  .later thead th {
    white-space: normal;
  }
</style>
