<script lang="ts">
  import { figure } from '../../lib/figures';
  import Figure from './Figure.svelte';
  import type { PictureProps } from '../../lib/picture';

  let { stage, onReports }: PictureProps = $props();

  const WIDE = 190;
  const TALL = 152;
  /** Blocks that are shown, about eight seconds. */
  const KEPT = 380;
  let history = $state.raw<number[]>([]);
  const y = (value: number): number => ((1 - value) / 2) * TALL;
  const line = $derived(
    history
      .map((v, i) => {
        const x = WIDE - (history.length - 1 - i) * (WIDE / KEPT);
        return `${i ? 'L' : 'M'}${x.toFixed(1)} ${y(v).toFixed(1)}`;
      })
      .join(''),
  );
  const least = $derived(history.length ? Math.min(...history) : null);

  $effect(() =>
    onReports((batch) => {
      const smooth = [...history];
      for (const { report } of batch) {
        const last = smooth[smooth.length - 1] ?? report.correlation;
        smooth.push(last + 0.15 * (report.correlation - last));
      }
      history = smooth.slice(-KEPT);
    }),
  );
  $effect(() => {
    void stage.id;
    history = [];
  });
</script>

<Figure>
  <svg
    viewBox="0 0 {WIDE} {TALL}"
    preserveAspectRatio="none"
    role="img"
    aria-label="Correlation of left and right over the last eight seconds"
  >
    {#each [[1, 'alike'], [0, 'apart'], [-1, 'opposed']] as const as [value, words] (value)}
      <path class="grid" d="M0 {y(value)}H{WIDE}" />
      <text x="3" y={Math.min(Math.max(y(value) - 3, 10), TALL - 4)}>{words}</text>
    {/each}
    <path class="against" d="M0 {y(0)}H{WIDE}V{TALL}H0Z" />
    {#if history.length}<path class="line" d={line} />{/if}
  </svg>
  {#snippet caption()}
    correlation
    {#if least !== null}
      <span>{figure(history[history.length - 1] ?? 0, 2)}, least {figure(least, 2)}</span>
    {/if}
  {/snippet}
</Figure>

<style>
  path {
    fill: none;
  }
  .grid {
    stroke: var(--hair);
  }
  .against {
    fill: var(--madder);
    fill-opacity: 0.07;
  }
  .line {
    stroke: var(--ink);
    stroke-width: 1.5;
  }
</style>
