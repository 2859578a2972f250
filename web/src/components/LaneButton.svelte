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
    opacity: 0.35;
  }
  .lane.moves {
    opacity: 1;
    color: var(--ink);
    font-weight: 700;
  }
  .lane:hover,
  .lane:focus-visible {
    opacity: 1;
  }
</style>
