<script lang="ts">
  import type { Branch } from '../../lib/types';

  interface Props {
    branch: Branch;
    where?: string;
    onsolo: (solo: boolean) => void;
  }
  let { branch, where = '', onsolo }: Props = $props();
</script>

<button
  class:on={branch.solo}
  aria-pressed={branch.solo}
  aria-label="Solo {branch.name}{where}"
  title="Solo this branch"
  onclick={() => onsolo(!branch.solo)}>S</button
>

<style>
  button {
    width: 16px;
    height: 16px;
    line-height: 14px;
    flex: none;
    text-align: center;
    border: 1px solid var(--edge);
    font-size: var(--mark);
    color: var(--muted);
  }
  .on {
    background: var(--ink);
    color: var(--on-ink);
    font-weight: 700;
  }
</style>
