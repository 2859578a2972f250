<script module lang="ts">
  export type Around = 'copies' | 'bands' | 'mid-side';
</script>

<script lang="ts">
  /** What can be done with a stage as a whole. many: stages that are taken together. */
  interface Props {
    many: number;
    /** The strip has one channel. */
    mono: boolean;
    branched: boolean;
    onaround: (by: Around) => void;
    oncopy: () => void;
    onkeep: () => void;
    onremove: () => void;
  }
  let { many, mono, branched, onaround, oncopy, onkeep, onremove }: Props = $props();
</script>

<div class="acts">
  <button onclick={() => onaround('copies')} title="A dry branch beside it, steadily joined"
    >blend {many > 1 ? `these ${many}` : 'this'}</button
  >
  <button onclick={() => onaround('bands')} title="A copy of it on each of three bands"
    >into bands</button
  >
  <button
    disabled={mono}
    onclick={() => onaround('mid-side')}
    title={mono ? 'This strip has one channel' : 'A copy on the middle, one on the sides'}
    >mid and sides</button
  >
  {#if branched}
    <button title="The other branches get the same stage" onclick={oncopy}
      >copy to other branches</button
    >
  {/if}
  <button onclick={onkeep} title="Keep it in the library of recipes">keep as recipe</button>
  <button onclick={onremove}>take away</button>
</div>

<style>
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: var(--s1) var(--s3);
    font-size: var(--note);
    color: var(--slate);
  }
  .acts button {
    border-bottom: 1px dotted currentColor;
  }
  .acts button:hover {
    color: var(--ink);
    text-decoration: underline;
  }
</style>
