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
  title="Say what is wanted, and have this value found"
  {onclick}>aim</button
>

<style>
  .aim {
    padding: 0 3px;
    color: var(--muted);
    font-size: var(--small);
    text-decoration: underline dotted;
    text-underline-offset: 2px;
  }
  .aim:hover,
  .aim:focus-visible {
    color: var(--ink);
  }
</style>
