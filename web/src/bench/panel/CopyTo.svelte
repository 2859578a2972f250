<script lang="ts">
  import type { Branch } from '../../lib/types';

  interface Props {
    /** What is copied, as it is called. */
    what: string;
    branch: Branch;
    branches: readonly Branch[];
    /** Called with the branch that gets it; null: all others. */
    oncopy: (to: string | null) => void;
  }
  let { what, branch, branches, oncopy }: Props = $props();

  const ALL = 'all';

  function take(select: HTMLSelectElement): void {
    const to = select.value;
    select.value = '';
    oncopy(to === ALL ? null : to);
  }
</script>

<select
  aria-label="Copy the {what} of {branch.name} to"
  title="Another branch, or all others, get this one's settings"
  value=""
  onchange={(e) => take(e.currentTarget)}
>
  <option value="" disabled hidden>copy to</option>
  {#each branches.filter((b) => b.id !== branch.id) as other (other.id)}
    <option value={other.id}>{other.name}</option>
  {/each}
  <option value={ALL}>all others</option>
</select>

<style>
  select {
    max-width: 76px;
    margin-right: 6px;
    color: var(--slate);
    font-size: var(--note);
    background: none;
    border-width: 0 0 1px;
    border-bottom: 1px dotted currentColor;
  }
</style>
