<script lang="ts">
  import MovingSlider from '../components/MovingSlider.svelte';
  import { branches, elements, isSplit } from '../lib/chain';
  import { within } from '../lib/controls';
  import type { Element, Lever, Move } from '../lib/types';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    onopen: () => void;
  }
  let { work, onopen }: Props = $props();

  let open = $state('');
  const levers = $derived(work.model?.levers ?? []);
  const choices = $derived(everything());

  interface Choice {
    owner: string;
    control: string;
    words: string;
    low: number;
    high: number;
  }

  type At = (control: string, label: string, low: number, high: number) => Choice;

  /** What is within an element's lists; as one long filter it stands still. */
  function inner(element: Element, at: At): Choice[] {
    const phase = isSplit(element) ? element.phase : element.params['phase'];
    if ((phase ?? 'minimum') !== 'minimum') return [];
    const kind = isSplit(element) ? undefined : work.kinds[element.kind];
    const crossover = work.catalogue.controls['split']?.['crossovers_hz'];
    return within(element, kind, crossover)
      .filter((c) => c.type === 'number' && c.change !== 'structural')
      .map((c) => at(c.name, c.label.toLowerCase(), c.low ?? 0, c.high ?? 1));
  }

  /** Every control that a lever can move. */
  function everything(): Choice[] {
    return (work.model?.strips ?? []).flatMap((strip) => {
      const own: Choice[] = [
        { owner: strip.id, control: 'fader_db', words: `${strip.name}: fader`, low: -24, high: 0 },
        { owner: strip.id, control: 'pan', words: `${strip.name}: pan`, low: -1, high: 1 },
        ...strip.sends.map((s) => ({
          owner: strip.id,
          control: `send:${s.to}`,
          words: `${strip.name}: send to ${s.to}`,
          low: -24,
          high: 0,
        })),
      ];
      const parts = branches(strip.chain).map((b) => ({
        owner: b.id,
        control: 'gain_db',
        words: `${strip.name}, ${b.name}: gain`,
        low: -12,
        high: 6,
      }));
      const inside = elements(strip.chain).flatMap((e): Choice[] => {
        const title = work.titleOf(e);
        const at = (control: string, label: string, low: number, high: number): Choice => ({
          owner: e.id,
          control,
          words: `${strip.name}, ${title}: ${label}`,
          low,
          high,
        });
        if (isSplit(e)) {
          const position = e.join.law === 'sum' ? [] : [at('position', 'position', 0, 1)];
          return [at('mix', 'mix', 0, 1), ...position, ...inner(e, at)];
        }
        const controls = (work.kinds[e.kind]?.controls ?? []).filter(
          (c) => c.type === 'number' && c.change !== 'structural',
        );
        return [
          at('mix', 'mix', 0, 1),
          ...controls.map((c) => at(c.name, c.label.toLowerCase(), c.low ?? 0, c.high ?? 1)),
          ...inner(e, at),
        ];
      });
      return [...own, ...parts, ...inside];
    });
  }

  const taken = $derived(
    new Set([
      ...levers.flatMap((l) => l.moves.map((m) => `${m.owner} ${m.control}`)),
      ...(work.model?.automation ?? []).map((a) => `${a.owner} ${a.control}`),
    ]),
  );

  function set(lever: Lever, moves: Move[]): void {
    void work.edit({ type: 'set_lever', lever: lever.id, moves });
  }

  function add(lever: Lever, key: string): void {
    const found = choices.find((c) => `${c.owner} ${c.control}` === key);
    if (!found) return;
    const { owner, control, low, high } = found;
    set(lever, [...lever.moves, { owner, control, low, high, curve: 0 }]);
  }

  function words(move: Move): string {
    return (
      choices.find((c) => c.owner === move.owner && c.control === move.control)?.words ??
      `${move.owner} ${move.control}`
    );
  }

  function change(lever: Lever, index: number, part: Partial<Move>): void {
    set(
      lever,
      lever.moves.map((m, i) => (i === index ? { ...m, ...part } : m)),
    );
  }
</script>

<section class="levers" aria-label="Levers">
  <div class="head">
    <h2>Levers</h2>
    <button
      onclick={() => void work.edit({ type: 'add_lever', name: `Lever ${levers.length + 1}` })}
      >add a lever</button
    >
    <a href="#surface" target="_blank">control surface</a>
  </div>
  <div class="list">
    {#each levers as lever (lever.id)}
      <div class="lever">
        <MovingSlider
          of={work.movable(lever.id, 'value')}
          label={lever.name}
          value={lever.value}
          onhold={(v) => work.holdLever(lever.id, v)}
          onlane={onopen}
        />
        <button
          class="more"
          aria-expanded={open === lever.id}
          onclick={() => (open = open === lever.id ? '' : lever.id)}
          >moves {lever.moves.length} control{lever.moves.length === 1 ? '' : 's'}</button
        >
      </div>
    {/each}
    {#if levers.length === 0}<p>
        One control that moves several, each over a range of its own.
      </p>{/if}
  </div>
  {#each levers.filter((l) => l.id === open) as lever (lever.id)}
    <div class="moves">
      <input
        aria-label="Name of the lever"
        value={lever.name}
        onchange={(e) =>
          void work.edit({ type: 'set_lever', lever: lever.id, name: e.currentTarget.value })}
      />
      <button onclick={() => void work.edit({ type: 'remove_lever', lever: lever.id })}
        >take the lever away</button
      >
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
                onchange={(e) => change(lever, i, { [part]: Number(e.currentTarget.value) })}
              /></label
            >
          {/each}
          <button
            aria-label="Let go of {words(move)}"
            onclick={() =>
              set(
                lever,
                lever.moves.filter((_, k) => k !== i),
              )}>×</button
          >
        </div>
      {/each}
      <select
        aria-label="Move another control"
        value=""
        onchange={(e) => {
          add(lever, e.currentTarget.value);
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
  {/each}
</section>

<style>
  .levers {
    padding: var(--s2) var(--s3) 10px;
    border-top: 1px solid var(--ink);
    max-height: 260px;
    overflow-y: auto;
  }
  .head {
    display: flex;
    gap: var(--s4);
    align-items: baseline;
  }
  h2 {
    font-size: var(--text);
  }
  .head button,
  a,
  .more {
    color: var(--slate);
    font-size: var(--note);
    border-bottom: 1px dotted currentColor;
  }
  .list {
    display: grid;
    grid-template-columns: repeat(auto-fill, 190px);
    gap: var(--s1) var(--s5);
  }
  p {
    grid-column: 1 / -1;
    color: var(--muted);
  }
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
