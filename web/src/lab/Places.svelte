<script lang="ts">
  import { isSplit } from '../lib/chain';
  import type { Element, Strip } from '../lib/types';

  interface Props {
    strips: Strip[];
    strip: Strip | null;
    titleOf: (element: Element) => string;
    place: string;
    onstrip: (strip: string) => void;
    onchoose: (place: string) => void;
  }
  let { strips, strip, titleOf, place, onstrip, onchoose }: Props = $props();

  interface Row {
    id: string;
    words: string;
    deep: number;
  }
  const rows = $derived(strip ? listed(strip) : []);

  function listed(whole: Strip): Row[] {
    const under = (chain: Element[], deep: number): Row[] =>
      chain.flatMap((e) =>
        isSplit(e)
          ? [
              { id: e.id, words: titleOf(e), deep },
              ...e.branches.flatMap((b) => [
                { id: b.id, words: b.name, deep: deep + 1 },
                ...under(b.chain, deep + 2),
              ]),
            ]
          : [{ id: e.id, words: titleOf(e), deep }],
      );
    return [{ id: whole.id, words: 'the whole chain', deep: 0 }, ...under(whole.chain, 1)];
  }
</script>

<label class="strip"
  >Strip
  <select value={strip?.id} onchange={(e) => onstrip(e.currentTarget.value)}>
    {#each strips as { id, name } (id)}<option value={id}>{name}</option>{/each}
  </select>
</label>
<ul aria-label="What is measured">
  {#each rows as row (row.id)}
    <li style:padding-left="{row.deep * 14}px">
      <button
        class:chosen={row.id === place}
        aria-pressed={row.id === place}
        data-place={row.id}
        onclick={() => onchoose(row.id)}>{row.words}</button
      >
    </li>
  {/each}
</ul>

<style>
  .strip {
    display: flex;
    justify-content: space-between;
    color: var(--slate);
  }
  select {
    background: var(--field);
    border: 1px solid var(--hair);
    color: var(--ink);
    max-width: 170px;
  }
  ul {
    margin: 0;
    padding: 0;
    list-style: none;
    max-height: 190px;
    overflow-y: auto;
  }
  li button {
    width: 100%;
    padding: 1px 6px;
    text-align: left;
  }
  .chosen {
    background: var(--ink);
    color: var(--field);
  }
</style>
