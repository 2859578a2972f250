<script lang="ts">
  import DragNumber from '../../components/DragNumber.svelte';
  import { figure } from '../../lib/figures';

  interface Props {
    /** What the branch never passes, in dB; null: there is no wall. */
    ceiling: number | null;
    label: string;
    onhold: (ceiling: number | null) => void;
    ondrop: () => void;
  }
  let { ceiling, label, onhold, ondrop }: Props = $props();
</script>

<DragNumber
  {label}
  value={ceiling}
  low={-24}
  high={0}
  unit="dB"
  reset={null}
  empty="none"
  text={ceiling === null ? 'none' : `${figure(ceiling, 1)} dB`}
  {onhold}
  {ondrop}
/>
