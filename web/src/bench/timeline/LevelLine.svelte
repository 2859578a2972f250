<script lang="ts">
  import { figure } from '../../lib/figures';
  import { amplitudeAt, height as heightOf, toDb, toGain } from '../../lib/scale';
  import type { Control } from '../../lib/types';
  import type { Span } from './span.svelte';
  import { drag, type Gesture } from '../../lib/drag';

  interface Props {
    control: Control;
    value: number;
    /** A gain ahead of the level: the line then stands where the incoming sound reaches it. */
    ahead: number;
    span: Span;
    height: number;
    onhold: (value: number) => void;
    ondrop: () => void;
  }
  let { control, value, ahead, span, height, onhold, ondrop }: Props = $props();

  const share = $derived(heightOf(toGain(value - ahead), span.decibels, span.floor));
  const y = $derived(height / 2 - (height / 2) * share);
  let dragging = $state(false);

  const gesture: Gesture<number> = {
    start() {
      dragging = true;
      return y;
    },
    move(began, at, from) {
      const up = (height / 2 - began - (at.pageY - from.pageY)) / (height / 2);
      const db = toDb(amplitudeAt(Math.min(Math.max(up, 0), 1), span.decibels, span.floor));
      const [least, most] = [control.low ?? -60, control.high ?? 0];
      onhold(Math.min(Math.max(Math.round((db + ahead) * 10) / 10, least), most));
    },
    end() {
      dragging = false;
      ondrop();
    },
  };
</script>

<div
  class="line"
  class:dragging
  style:top="{y}px"
  role="presentation"
  data-line={control.name}
  {@attach drag(gesture)}
>
  <span class="rule"></span>
  <!-- At the top it stays under the ruler. -->
  <span
    class="label"
    style:top="{Math.max(-3, 6 - y)}px"
    title="{control.label.toLowerCase()} {figure(value, 1)} dB">{figure(value, 1)}</span
  >
</div>
<div class="mirror" style:top="{height - y}px"></div>

<style>
  .line {
    position: absolute;
    left: 0;
    right: 0;
    height: 12px;
    margin-top: -6px;
    cursor: ns-resize;
    touch-action: none;
  }
  .rule {
    position: absolute;
    left: 0;
    right: 0;
    top: 5px;
    height: 0;
    border-top: 1.5px solid var(--ink);
  }
  .label {
    position: absolute;
    right: 100%;
    min-width: 38px;
    padding: 0 3px;
    text-align: right;
    background: var(--field);
    border: 1px solid var(--ink);
    font-weight: 600;
    font-size: var(--small);
    line-height: 16px;
    white-space: nowrap;
  }
  .dragging .label,
  .line:hover .label {
    background: var(--ink);
    color: var(--on-ink);
  }
  .mirror {
    position: absolute;
    left: 0;
    right: 0;
    border-top: 1px dashed var(--ink);
    opacity: 0.6;
    pointer-events: none;
  }
</style>
