<script lang="ts">
  import Checkbox from '../components/Checkbox.svelte';
  import Choice from '../components/Choice.svelte';
  import { figure } from '../lib/figures';
  import { MIX, type Heard, type Proving } from '../lib/proving.svelte';

  interface Props {
    proving: Proving;
  }
  let { proving }: Props = $props();

  const gone = $derived(proving.rows.filter((r) => r.name !== MIX && r.found && !r.found.error));
  const row = $derived(proving.rows.find((r) => r.name === proving.row));
  const gain = $derived(proving.heard === 'original' ? proving.gains.mix : proving.gains.back);
  const words = $derived(
    proving.heard === 'original'
      ? 'the mix'
      : proving.heard === 'taken'
        ? `what ${row?.words} took away`
        : row?.words,
  );
</script>

<section>
  <Choice
    label="Listen to"
    options={['original', 'decoded', 'taken']}
    value={proving.heard}
    disabled={gone.length ? [] : ['decoded', 'taken']}
    onchoose={(v) => proving.hear(v as Heard)}
  />
  <p>
    <b>{words}</b>{Math.abs(gain) >= 0.05
      ? `, turned ${figure(Math.abs(gain), 1)} dB ${gain < 0 ? 'down' : 'up'}`
      : ''}
  </p>
  <div class="both">
    <Checkbox on={proving.asPlayed} label="as played" onswitch={(on) => (proving.asPlayed = on)} />
    <Checkbox on={proving.same} label="same loudness" onswitch={(on) => (proving.same = on)} />
  </div>
</section>

<style>
  section {
    display: grid;
    gap: var(--s2);
    font-size: var(--note);
  }
  .both {
    display: flex;
    justify-content: space-between;
  }
</style>
