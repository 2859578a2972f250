<script lang="ts">
  interface Props {
    label: string;
    moves: boolean;
    onclick: () => void;
  }
  let { label, moves, onclick }: Props = $props();
</script>

<button
  class="lane"
  class:moves
  aria-label="Automation of {label}"
  title={moves ? 'Moves by itself: show its automation' : 'Automate this control'}
  {onclick}>∿</button
>

<style>
  .lane {
    padding: 0 3px;
    color: var(--muted);
    font-size: var(--small);
  }
  .lane.moves {
    color: var(--ink);
    font-weight: 700;
  }
  .lane:hover,
  .lane:focus-visible {
    color: var(--ink);
  }
</style>
