<script lang="ts">
  import { readTyped } from '../lib/figures';
  import { typing, type TypedOver } from '../lib/typing.svelte';
  import NumberInput from './NumberInput.svelte';

  interface Props {
    over: TypedOver;
  }
  let { over }: Props = $props();

  function finish(text: string | null): string | null {
    const { take, back } = over;
    if (text !== null) {
      const read = readTyped(text, over);
      if ('why' in read) return read.why;
      take(read.value);
    }
    typing.over = null;
    back.focus();
    return null;
  }
</script>

<div style:left="{over.left}px" style:top="{over.top}px">
  <NumberInput label={over.label} start={over.start} onfinish={finish} />
</div>

<style>
  div {
    position: fixed;
    z-index: 30;
  }
</style>
