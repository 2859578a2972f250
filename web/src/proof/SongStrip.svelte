<script lang="ts">
  import { figure } from '../lib/figures';
  import type { Proving } from '../lib/proving.svelte';

  interface Props {
    proving: Proving;
    /** Where play is, in frames of the session. */
    frame: number;
    rate: number;
  }
  let { proving, frame, rate }: Props = $props();

  const FLOOR = -24;
  const HALF = 27;
  const proof = $derived(proving.proof);
  const length = $derived(Math.max((proof?.end ?? 1) - (proof?.begin ?? 0), 1));
  const heights = $derived(
    (proof?.overview ?? []).map((v) =>
      Math.min(Math.max((20 * Math.log10(Math.max(v, 1e-6)) - FLOOR) / -FLOOR, 0.01), 1.08),
    ),
  );
  const outline = $derived.by(() => {
    const n = heights.length;
    const up = heights.map((h, i) => `${i},${HALF - HALF * h}`);
    const down = heights.map((h, i) => `${i},${HALF + HALF * h}`).reverse();
    return n ? `M0,${HALF} L${up.join(' ')} L${down.join(' ')} Z` : '';
  });
  const here = $derived((frame - (proof?.begin ?? 0)) / (proof ? rate : 1));
  const place = $derived((100 * here * (proof?.rate ?? 1)) / length);

  function go(event: MouseEvent): void {
    const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
    if (!proof) return;
    const share = (event.clientX - box.left) / box.width;
    proving.from(proof.begin + ((share * length) / proof.rate) * rate);
  }
</script>

<div class="song">
  <div class="names" aria-hidden="true">
    {#each proof?.sections ?? [] as section (section.begin)}
      <span
        style:left="{(100 * section.begin) / length}%"
        style:max-width="{(100 * (section.end - section.begin)) / length}%">{section.name}</span
      >
    {/each}
  </div>
  <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
  <div class="wave" onclick={go}>
    {#if heights.length}
      <svg viewBox="0 0 {heights.length} {2 * HALF}" preserveAspectRatio="none" aria-hidden="true">
        <path d={outline} />
      </svg>
    {:else}
      <span class="empty">the song appears here when it is proved</span>
    {/if}
  </div>
  <div class="figures">
    {#each proof?.sections ?? [] as section (section.begin)}
      <span
        style:left="{(100 * section.begin) / length}%"
        style:max-width="{(100 * (section.end - section.begin)) / length}%"
      >
        {section.integrated_lufs == null ? '–' : figure(section.integrated_lufs, 1)} LUFS<br />
        {section.true_peak_dbtp == null ? '–' : figure(section.true_peak_dbtp, 1)} dBTP
      </span>
    {:else}
      {#if proof}<span>{figure(proof.figures.integrated_lufs ?? 0, 1)} LUFS</span>{/if}
    {/each}
  </div>
  {#if place >= 0 && place <= 100 && proof}
    <i class="playhead" style:left="{place}%" style:height="{94 + 25 * proving.rows.length}px"></i>
  {/if}
</div>

<style>
  .song {
    position: relative;
    display: grid;
    grid-template-rows: 16px 54px 28px;
    font-size: var(--small);
    text-align: left;
  }
  .names,
  .figures {
    position: relative;
    white-space: nowrap;
    line-height: 1.2;
  }
  .names span,
  .figures span {
    position: absolute;
    overflow: hidden;
    text-overflow: clip;
    padding-left: 3px;
  }
  .names span {
    border-left: 2px solid var(--ink);
    font-weight: 600;
  }
  .wave {
    background: var(--field);
    cursor: pointer;
    overflow: hidden;
  }
  svg {
    width: 100%;
    height: 100%;
    display: block;
  }
  path {
    fill: var(--slate);
  }
  .empty {
    color: var(--muted);
    display: grid;
    place-items: center;
    height: 100%;
  }
  .playhead {
    position: absolute;
    top: 16px;
    width: 2px;
    background: var(--ochre);
    pointer-events: none;
    z-index: 2;
  }
</style>
