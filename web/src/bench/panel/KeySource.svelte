<script lang="ts">
  import { branches, elements } from '../../lib/chain';
  import { standing } from '../../lib/standing';
  import type { Element, Strip } from '../../lib/types';

  interface Props {
    strips: Strip[];
    titleOf: (element: Element) => string;
    label: string;
    value: string;
    own?: boolean;
    /** Strips that cannot be listened to: they hang on what listens. */
    barred?: ReadonlySet<string>;
    onchoose: (source: string) => Promise<void>;
  }
  let {
    strips,
    titleOf,
    label,
    value,
    own = false,
    barred = new Set(),
    onchoose,
  }: Props = $props();

  function inside(strip: Strip): [string, string][] {
    const stages = elements(strip.chain).map((e): [string, string] => [
      `stage:${e.id}`,
      titleOf(e),
    ]);
    const parts = branches(strip.chain).map((b): [string, string] => [
      `branch:${b.id}`,
      `branch ${b.name}`,
    ]);
    return [...stages, ...parts];
  }
</script>

<select aria-label={label} {value} {@attach standing(() => value, onchoose)}>
  {#if own}<option value="own">own</option>{:else}<option value="" disabled>choose…</option>{/if}
  {#each strips as strip (strip.id)}
    <optgroup label={strip.name} disabled={barred.has(strip.id)}>
      <option value="strip:{strip.id}">{strip.name}</option>
      {#each inside(strip) as [source, words] (source)}
        <option value={source}>{strip.name}: {words}</option>
      {/each}
    </optgroup>
  {/each}
</select>

<style>
  select {
    max-width: 150px;
    background: var(--field);
    border: 1px solid var(--hair);
    color: inherit;
  }
  @media (max-width: 1100px) {
    select {
      max-width: 84px;
    }
  }
</style>
