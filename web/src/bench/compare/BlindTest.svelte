<script lang="ts">
  import Choice from '../../components/Choice.svelte';
  import type { Blind, Letter } from '../../lib/blind.svelte';
  import { figure } from '../../lib/figures';
  import type { Heard, Trial } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';

  interface Props {
    work: Work;
    blind: Blind;
  }
  let { work, blind }: Props = $props();

  const kinds = { match: 'match X', pick: 'pick the better' } as const;
  const kept = $derived([...(work.model?.trials ?? [])].reverse().slice(0, 6));
  const title = $derived(work.strip?.name ?? '');

  function key(event: KeyboardEvent): void {
    if (!blind.running || event.ctrlKey || event.metaKey || event.altKey) return;
    const letter = event.key.toUpperCase() as Letter;
    if (event.key === 'Escape') {
      if (blind.leaving) blind.stop();
      else blind.leaving = true;
    } else if (event.shiftKey && blind.answers.includes(letter)) blind.answer(letter);
    else if (!event.shiftKey && blind.letters.includes(letter)) blind.hear(letter);
    else if (event.shiftKey && /^Digit\d$/.test(event.code)) {
      // The settings are lent to the test.
    } else if ('xcvtg'.includes(event.key)) {
      // So are the keys that would show or change what is heard.
    } else return;
    event.preventDefault();
    event.stopImmediatePropagation();
  }

  function percent(chance: number): string {
    return `${figure(100 * chance, chance < 0.001 ? 2 : 1)} %`;
  }

  function said(what: Heard): string {
    return what === 'in' ? 'before' : what;
  }

  function score(trial: Trial): string {
    if (trial.best) return `${said(trial.best)} ${trial.right} of ${trial.rounds}`;
    return `${trial.right} of ${trial.rounds}`;
  }

  function when(trial: Trial): string {
    return new Date(trial.at * 1000).toLocaleString([], {
      weekday: 'short',
      hour: '2-digit',
      minute: '2-digit',
    });
  }
</script>

<svelte:window onkeydowncapture={key} />

<aside class="blind" aria-label="Blind test">
  <header>
    <h2>Blind</h2>
    <span class="note">{title}, same loudness</span>
  </header>
  {#if blind.stage === 'idle'}
    <Choice
      label="Kind of test"
      hidden
      options={Object.values(kinds)}
      value={kinds[blind.kind]}
      onchoose={(value) => {
        blind.kind = value === kinds.match ? 'match' : 'pick';
        blind.explain();
      }}
    />
    <p>
      {#if blind.kind === 'match'}
        Two are hidden behind P and Q, and X is one of them. Can you tell which, more often than by
        guessing?
      {:else}
        Two or more are hidden behind letters, in another order each round. Pick the best one.
      {/if}
    </p>
    <div class="choices" role="group" aria-label="What takes part">
      {#each blind.known as what (what)}
        <button
          aria-pressed={blind.choices.includes(what)}
          class:chosen={blind.choices.includes(what)}
          onclick={() => blind.toggle(what)}>{said(what)}</button
        >
      {/each}
    </div>
    <label class="line"
      >rounds
      <input
        type="number"
        min="1"
        max="50"
        aria-label="Rounds"
        bind:value={blind.rounds}
        onchange={() => blind.explain()}
      /></label
    >
    {@render odds()}
    {#if blind.problem}<p class="note">{blind.problem}</p>{/if}
    <div class="line">
      <button class="begin" disabled={blind.problem !== null} onclick={() => void blind.begin()}
        >Begin</button
      >
      <button class="act" onclick={() => (blind.open = false)}>back to the ledger</button>
    </div>
  {:else if blind.stage === 'asking'}
    <p class="note">
      {blind.kind === 'match'
        ? 'P and Q are two settings in an order that nobody knows. X is one of them.'
        : 'In another order each round.'}
    </p>
    <span class="label">Hear</span>
    <div class="letters" role="radiogroup" aria-label="Hear">
      {#each blind.letters as letter (letter)}
        <button
          role="radio"
          aria-checked={blind.hearing === letter}
          class:chosen={blind.hearing === letter}
          onclick={() => blind.hear(letter)}>{letter}</button
        >
      {/each}
    </div>
    <span class="label">Answer</span>
    <div class="answers">
      {#each blind.answers as letter (letter)}
        <button onclick={() => blind.answer(letter)}
          >{blind.kind === 'match' ? `X is ${letter}` : `${letter} is best`}
          <kbd>⇧{letter}</kbd></button
        >
      {/each}
    </div>
    <div class="line" role="status">
      <span><b>Round {blind.round}</b> of {blind.rounds}</span>
      <span class="note">covered until the last</span>
    </div>
    <div class="rounds" aria-hidden="true">
      {#each { length: blind.rounds } as _, i (i)}
        <i class:past={i < blind.round - 1} class:now={i === blind.round - 1}></i>
      {/each}
    </div>
    {@render odds()}
    {#if blind.leaving}
      <p class="caution">Stop the test? Esc once more, or</p>
    {/if}
    <div class="line">
      <button class="begin" onclick={() => blind.uncover()}>Uncover now</button>
      <button class="begin" onclick={() => blind.stop()}>Stop</button>
    </div>
    <p class="caution">
      <b>Withheld</b> until it uncovers: meters, reduction, figures and moving pictures.
    </p>
  {:else}
    <table aria-label="Uncovered">
      <tbody>
        {#if blind.kind === 'match'}
          {#each blind.uncovered as [letter, what] (letter)}
            <tr><th>{letter} was</th><td><b>{said(what)}</b></td></tr>
          {/each}
        {/if}
        {#if blind.result}
          <tr
            ><th>{blind.result.best ? 'picked most' : 'right'}</th><td
              ><b>{score(blind.result)}</b></td
            ></tr
          >
          <tr><th>by guessing</th><td><b>{percent(blind.result.chance)}</b></td></tr>
          {#if blind.result.early}<tr><th>stopped early</th><td></td></tr>{/if}
        {/if}
      </tbody>
    </table>
    {#if blind.result}
      <p>
        {#if blind.result.chance <= 0.05}
          Guessing would do as well only {percent(blind.result.chance)} of the time.
        {:else}
          Guessing does as well {percent(blind.result.chance)} of the time: this does not show that they
          can be told apart.
        {/if}
      </p>
    {/if}
    <div class="line">
      <button class="begin" onclick={() => blind.prepare()}>Another</button>
      <button class="act" onclick={() => (blind.open = false)}>back to the ledger</button>
    </div>
  {/if}
  <div class="space"></div>
  {#if kept.length && !blind.running}
    <table aria-label="Tests kept with this session">
      <thead><tr><th>Kept</th><th>score</th><th>guessing</th></tr></thead>
      <tbody>
        {#each kept as trial (trial.at)}
          <tr
            ><th>{when(trial)} {trial.choices.map(said).join(', ')}</th><td>{score(trial)}</td><td
              >{percent(trial.chance)}</td
            ></tr
          >
        {/each}
      </tbody>
    </table>
  {/if}
</aside>

{#snippet odds()}
  {#if blind.table.length}
    <table class="odds">
      <tbody>
        <tr
          ><th>of {blind.rounds}</th>{#each blind.table as [right] (right)}<td>{right}</td
            >{/each}</tr
        >
        <tr
          ><th>by guessing, %</th>{#each blind.table as [right, chance] (right)}<td
              ><b>{figure(100 * chance, chance < 0.001 ? 2 : 1)}</b></td
            >{/each}</tr
        >
      </tbody>
    </table>
  {:else}
    <p class="note">So few rounds tell nothing: guessing reaches any score.</p>
  {/if}
  <p class="note">One-sided binomial, after Clark 1982.</p>
{/snippet}

<style>
  .blind {
    display: flex;
    flex-direction: column;
    gap: var(--s2);
    padding: 10px var(--s3);
    border-left: 1px solid var(--hair);
    overflow-y: auto;
    font-size: var(--note);
  }
  header,
  .line {
    display: flex;
    justify-content: space-between;
    align-items: baseline;
    gap: var(--s2);
  }
  h2 {
    font-size: var(--heading);
  }
  .note,
  .label {
    color: var(--muted);
  }
  .choices,
  .letters,
  .answers {
    display: flex;
    flex-wrap: wrap;
    gap: var(--s2);
  }
  .choices button,
  .answers button,
  .letters button {
    flex: 1;
    padding: 5px var(--s1);
    text-align: center;
    border: 1px solid var(--ink);
    background: var(--field);
    white-space: nowrap;
  }
  .letters button {
    padding: var(--s3) 0;
    font-size: var(--title);
    font-weight: 600;
  }
  .choices .chosen,
  .letters .chosen {
    background: var(--ink);
    color: var(--on-ink);
  }
  .begin {
    padding: var(--s1) var(--s3);
    border: 1px solid var(--ink);
  }
  .act {
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  input {
    width: 56px;
    text-align: right;
    border: 1px solid var(--edge);
    background: var(--field);
    padding: 1px var(--s1);
  }
  kbd {
    font: inherit;
    font-size: var(--mark);
    color: var(--muted);
    border: 1px solid var(--hair);
    padding: 0 3px;
  }
  .rounds {
    display: flex;
    flex-wrap: wrap;
    gap: 3px;
  }
  .rounds i {
    width: 13px;
    height: 13px;
    border: 1px solid var(--edge);
  }
  .rounds .past {
    background: var(--slate);
  }
  .rounds .now {
    border: 2px solid var(--ink);
  }
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th,
  td {
    padding: 1px 0 1px 6px;
    text-align: right;
    font-weight: 400;
    border-bottom: 1px solid var(--hair);
    white-space: nowrap;
  }
  th:first-child {
    padding-left: 0;
    text-align: left;
    color: var(--muted);
    overflow: hidden;
    text-overflow: ellipsis;
    max-width: 118px;
  }
  .caution {
    padding-left: var(--s2);
    border-left: 3px double var(--ink);
  }
  .space {
    flex: 1;
  }
</style>
