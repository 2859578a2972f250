<script lang="ts">
  import type { Branch } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import MovingNumber from '../../components/MovingNumber.svelte';

  interface Props {
    work: Work;
    branch: Branch;
    onlane?: () => void;
  }
  let { work, branch, onlane }: Props = $props();
</script>

<MovingNumber
  {work}
  owner={branch.id}
  control="gain_db"
  label="Gain of {branch.name}"
  value={branch.gain_db}
  onhold={(v) => work.holdBranch(branch.id, v)}
  {onlane}
/>
