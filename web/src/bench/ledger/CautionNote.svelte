<script lang="ts">
  import { figure } from '../../lib/figures';
  import type { Caution } from '../../lib/types';

  interface Props {
    caution: Caution;
    onshow: () => void;
    /** It is meant so; undefined where nothing can be told that. */
    onmeant?: () => void;
  }
  let { caution, onshow, onmeant }: Props = $props();
</script>

<p class="caution">
  <b>Caution.</b>
  {caution.words} <span>limit {figure(caution.limit, 1)}</span>
  <button onclick={onshow}>Show</button>
  {#if onmeant}<button onclick={onmeant}>Meant</button>{/if}
</p>

<style>
  .caution {
    padding-left: var(--s2);
    border-left: 3px double var(--ink);
  }
  span {
    color: var(--muted);
  }
  button {
    text-decoration: underline;
    margin-right: 6px;
  }
</style>
