<script lang="ts">
  import type { Score } from './score.svelte';

  interface Props {
    score: Score;
    place: string;
    index: number;
    words: string;
    small?: boolean;
  }
  let { score, place, index, words, small = false }: Props = $props();
</script>

<button
  class="gap"
  class:small
  class:target={score.isTarget({ place, index })}
  data-gap={index}
  data-place={place}
  aria-label={words}
  title={words}
  onclick={(e) => {
    const box = e.currentTarget.getBoundingClientRect();
    score.adding = { place, index, x: box.left, y: box.bottom };
  }}><span>+</span></button
>

<style>
  .gap {
    position: relative;
    width: 26px;
    height: 54px;
    flex: none;
    text-align: center;
  }
  .small {
    width: 20px;
    height: 26px;
  }
  span {
    display: inline-block;
    width: 16px;
    height: 16px;
    line-height: 14px;
    background: var(--ground);
    border: 1px solid var(--edge);
    color: var(--muted);
    opacity: 0.45;
  }
  .small span {
    width: 13px;
    height: 13px;
    line-height: 11px;
    font-size: var(--small);
    vertical-align: middle;
  }
  .gap:hover span,
  .gap:focus-visible span {
    opacity: 1;
    color: var(--ink);
  }
  .target {
    background: var(--ochre-soft);
    outline: 2px solid var(--ochre);
  }
</style>
