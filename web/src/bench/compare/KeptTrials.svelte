<script lang="ts">
  import { percent, said, score } from '../../lib/trials';
  import type { Trial } from '../../lib/types';

  interface Props {
    trials: Trial[];
  }
  let { trials }: Props = $props();

  function when(trial: Trial): string {
    return new Date(trial.at * 1000).toLocaleString([], {
      weekday: 'short',
      hour: '2-digit',
      minute: '2-digit',
    });
  }
</script>

<table aria-label="Tests kept with this session">
  <thead><tr><th>Kept</th><th>score</th><th>guessing</th></tr></thead>
  <tbody>
    {#each trials as trial (trial.at)}
      <tr
        ><th>{when(trial)} {trial.choices.map(said).join(', ')}</th><td>{score(trial)}</td><td
          >{percent(trial.chance)} %</td
        ></tr
      >
    {/each}
  </tbody>
</table>
