<script lang="ts">
  import type { Point } from '../../lib/types';

  interface Props {
    title: string;
    /** The lever that moves it, which can only be changed on the desk. */
    lever: string | null;
    /** Of the way behind the chosen point. */
    shape: Point['shape'] | null;
    any: boolean;
    writing: boolean;
    onshape: () => void;
    onremove: () => void;
    onclear: () => void;
    onwrite: () => void;
    onclose: () => void;
  }
  let { title, lever, shape, any, writing, onshape, onremove, onclear, onwrite, onclose }: Props =
    $props();
</script>

<div class="head">
  <b>{title}</b>
  {#if lever !== null}<span>moved by the lever {lever}</span>{/if}
  {#if shape}
    <button onclick={onshape}>{shape}</button>
    <button onclick={onremove}>take the point away</button>
  {/if}
  {#if any && lever === null}<button onclick={onclear}>take all away</button>{/if}
  <button
    class="write"
    class:on={writing}
    aria-pressed={writing}
    title="Controls that are moved during play leave automation behind"
    onclick={onwrite}>write</button
  >
  <button onclick={onclose} aria-label="Close the automation">close</button>
</div>

<style>
  .head {
    position: absolute;
    top: 2px;
    left: 44px;
    display: flex;
    gap: var(--s3);
    align-items: baseline;
    padding: 0 6px;
    background: var(--field);
    font-size: var(--note);
  }
  .head button {
    color: var(--slate);
    border-bottom: 1px dotted currentColor;
  }
  .head .write.on {
    background: var(--ink);
    color: var(--on-ink);
    padding: 0 6px;
    text-decoration: none;
  }
</style>
