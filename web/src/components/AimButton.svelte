<script lang="ts">
  interface Props {
    label: string;
    onclick: () => void;
  }
  let { label, onclick }: Props = $props();
</script>

<button
  class="aim"
  aria-label="Aim with {label}"
  title="Aim: say what is wanted, and have this value found"
  {onclick}
  ><svg viewBox="0 0 10 10" aria-hidden="true"
    ><circle class="ring" cx="5" cy="5" r="3.8" /><circle cx="5" cy="5" r="1.3" /></svg
  ></button
>

<style>
  .aim {
    padding: 0 2px;
    color: var(--muted);
  }
  .aim:hover,
  .aim:focus-visible {
    color: var(--ink);
  }
  svg {
    width: 10px;
    height: 10px;
    vertical-align: -1px;
    fill: currentColor;
  }
  .ring {
    fill: none;
    stroke: currentColor;
  }
</style>
