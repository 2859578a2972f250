<script lang="ts">
  import { panned } from '../lib/figures';
  import type { Strip } from '../lib/types';
  import type { Work } from '../lib/work.svelte';
  import MovingNumber from './MovingNumber.svelte';

  interface Props {
    work: Work;
    strip: Strip;
    label: string;
    onlane?: () => void;
  }
  let { work, strip, label, onlane }: Props = $props();
</script>

<MovingNumber
  {work}
  owner={strip.id}
  control="pan"
  {label}
  value={strip.pan}
  words={panned}
  onhold={(v) => work.holdStrip(strip.id, 'pan', v)}
  {onlane}
/>
