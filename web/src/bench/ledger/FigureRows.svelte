<script lang="ts">
  import type { Line } from './lines';

  interface Props {
    lines: Line[];
  }
  let { lines }: Props = $props();
</script>

{#each lines as row (row.name)}
  <tr title={row.words}>
    <th>{row.name}</th><td>{row.in}</td><td>{row.out}</td><td>{row.diff}</td>
  </tr>
{/each}
