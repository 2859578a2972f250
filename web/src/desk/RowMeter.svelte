<script lang="ts">
  import type { Live } from '../lib/live.svelte';
  import { height } from '../lib/scale';

  interface Props {
    meter: Live['meters'][string] | undefined;
  }
  let { meter }: Props = $props();
</script>

<span class="meter" aria-hidden="true">
  <i><b style:transform="scaleX({height(meter?.left ?? 0, true)})"></b></i>
  <i><b style:transform="scaleX({height(meter?.right ?? 0, true)})"></b></i>
  <i class="taken" style:transform="scaleX({Math.min(1, (meter?.reduction ?? 0) / 24)})"></i>
</span>

<style>
  .meter {
    display: grid;
    gap: 2px;
  }
  .meter i {
    display: block;
    height: 5px;
    background: var(--hair);
  }
  .meter b {
    display: block;
    height: 100%;
    transform-origin: left;
    background: var(--slate);
  }
  .meter .taken {
    height: 4px;
    transform-origin: left;
    background: var(--madder);
  }
</style>
