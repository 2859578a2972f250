<script lang="ts">
  import Dialog from '../components/Dialog.svelte';
  import type { Shortcut } from '../lib/shortcuts';

  interface Props {
    keys: readonly Shortcut[];
    onclose: () => void;
  }
  let { keys, onclose }: Props = $props();
</script>

<Dialog title="Keys" {onclose}>
  <table>
    <tbody>
      {#each keys as shortcut (shortcut.words)}
        <tr><td class="which">{shortcut.keys}</td><td>{shortcut.words}</td></tr>
      {/each}
    </tbody>
  </table>
</Dialog>

<style>
  .which {
    text-align: left;
    padding: 2px var(--s5) 2px 0;
    white-space: nowrap;
  }
</style>
