<script lang="ts">
  import Checkbox from '../components/Checkbox.svelte';
  import { clock } from '../lib/figures';
  import type { SessionItem } from '../lib/types';

  interface Props {
    sessions: SessionItem[];
    /** Id of the session that is open. */
    current: number | undefined;
    busy: boolean;
    onopen: (item: SessionItem) => void;
    onbundle: (item: SessionItem, withPrints: boolean) => void;
    onremove: (item: SessionItem) => void;
  }
  let { sessions, current, busy, onopen, onbundle, onremove }: Props = $props();

  let withPrints = $state(false);

  function when(seconds: number): string {
    return new Date(seconds * 1000).toLocaleString([], { dateStyle: 'medium', timeStyle: 'short' });
  }
  function remove(item: SessionItem): void {
    if (confirm(`Delete “${item.name}”? Its recordings stay in the media folder.`)) onremove(item);
  }
</script>

<table>
  <tbody>
    {#each sessions as item (item.id)}
      <tr class:current={item.id === current}>
        <td
          ><button class="open" data-session={item.id} onclick={() => onopen(item)}
            >{item.name}</button
          ></td
        >
        <td>{item.strips} strips</td>
        <td>{clock(item.seconds * 1000, 1000).slice(0, -4)}</td>
        <td class="note">{when(item.touched_at)}</td>
        <td
          ><button
            class="note"
            aria-label="Save {item.name} as a bundle"
            title="All of it as one open file: the session, its recordings, its chains as recipes"
            disabled={busy}
            onclick={() => onbundle(item, withPrints)}>Bundle</button
          ></td
        >
        <td
          ><button class="note" aria-label="Delete {item.name}" onclick={() => remove(item)}
            >Delete</button
          ></td
        >
      </tr>
    {/each}
  </tbody>
</table>
<div class="bundles">
  <Checkbox
    on={withPrints}
    label="bundles take prints along"
    onswitch={(on) => (withPrints = on)}
  />
  <span class="note">A bundle opens on another machine, and prints the same bytes there.</span>
</div>

<style>
  .bundles {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: var(--s2) var(--s4);
    margin-top: var(--s4);
  }
  table {
    width: 100%;
    border-collapse: collapse;
  }
  td {
    padding: var(--s2) var(--s4) var(--s2) 0;
    border-bottom: 1px solid var(--hair);
    white-space: nowrap;
  }
  td:first-child {
    width: 100%;
  }
  .open {
    white-space: normal;
    overflow-wrap: anywhere;
    text-align: left;
    font-weight: 600;
    font-size: var(--heading);
  }
  .open:hover {
    text-decoration: underline;
  }
  .current {
    background: var(--ochre-soft);
  }
  .note {
    color: var(--muted);
  }
</style>
