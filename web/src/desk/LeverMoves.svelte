<script lang="ts">
  import type { LeverChoice } from '../lib/levers';
  import { standing } from '../lib/standing';
  import type { Lever, Move } from '../lib/types';

  interface Props {
    lever: Lever;
    choices: LeverChoice[];
    /** What something moves already, as "owner control". */
    taken: Set<string>;
    onname: (name: string) => Promise<void>;
    onmoves: (moves: Move[]) => Promise<void>;
    onaway: () => void;
  }
  let { lever, choices, taken, onname, onmoves, onaway }: Props = $props();

  function add(key: string): void {
    const found = choices.find((c) => `${c.owner} ${c.control}` === key);
    if (!found) return;
    const { owner, control, low, high } = found;
    void onmoves([...lever.moves, { owner, control, low, high, curve: 0 }]);
  }

  function words(move: Move): string {
    return (
      choices.find((c) => c.owner === move.owner && c.control === move.control)?.words ??
      `${move.owner} ${move.control}`
    );
  }

  function change(index: number, part: Partial<Move>): Promise<void> {
    return onmoves(lever.moves.map((m, i) => (i === index ? { ...m, ...part } : m)));
  }
</script>

<div class="moves">
  <input
    aria-label="Name of the lever"
    maxlength="80"
    value={lever.name}
    {@attach standing(() => lever.name, onname)}
  />
  <button onclick={onaway}>take the lever away</button>
  {#each lever.moves as move, i (`${move.owner} ${move.control}`)}
    <div class="move">
      <span>{words(move)}</span>
      {#each [['low', 'from'], ['high', 'to'], ['curve', 'bend']] as const as [part, label] (part)}
        <label
          >{label}
          <input
            type="number"
            step="any"
            value={move[part]}
            aria-label="{label} of {words(move)}"
            {@attach standing(
              () => String(move[part]),
              async (value) => value && change(i, { [part]: Number(value) }),
            )}
          /></label
        >
      {/each}
      <button
        aria-label="Let go of {words(move)}"
        onclick={() => onmoves(lever.moves.filter((_, k) => k !== i))}>×</button
      >
    </div>
  {/each}
  <select
    aria-label="Move another control"
    value=""
    onchange={(e) => {
      add(e.currentTarget.value);
      e.currentTarget.value = '';
    }}
  >
    <option value="">move another control…</option>
    {#each choices as choice (`${choice.owner} ${choice.control}`)}
      {#if !taken.has(`${choice.owner} ${choice.control}`)}
        <option value="{choice.owner} {choice.control}">{choice.words}</option>
      {/if}
    {/each}
  </select>
</div>

<style>
  .moves {
    margin-top: 6px;
    padding: var(--s2) var(--s3);
    background: var(--field);
    border: 1px solid var(--hair);
    font-size: var(--note);
  }
  .move {
    display: grid;
    grid-template-columns: 300px 130px 130px 130px 20px;
    gap: 10px;
    padding: 3px 0;
  }
  input {
    width: 80px;
    border-bottom: 1px dotted var(--edge);
  }
  select {
    background: var(--field);
    border: 1px solid var(--hair);
  }
</style>
