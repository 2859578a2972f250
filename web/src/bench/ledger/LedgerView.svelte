<script lang="ts">
  import { FIRST, lines, loudness, MORE, type Line } from './lines';
  import ListenBox from './ListenBox.svelte';
  import { untrack } from 'svelte';
  import Choice from '../../components/Choice.svelte';
  import { api } from '../../lib/api';
  import type { Compare } from '../../lib/compare.svelte';
  import { figure, signed } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import type { Caution, Later, Ledger, Reduction } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import type { Span } from '../timeline/span.svelte';
  import { newest } from '../../lib/newest';
  import { sectionSpans } from '../../lib/sections';

  interface Props {
    work: Work;
    live: Live;
    span: Span;
    compare: Compare;
  }
  let { work, live, span, compare }: Props = $props();

  let ledger = $state.raw<Ledger | null>(null);
  let later = $state.raw<Later[]>([]);
  let done = $state(0);

  const stage = $derived(work.stage);
  /** A single stage is looked at: what it takes is what it tells itself. */
  const stageAlone = $derived(work.at !== 'chain' && !work.split);
  const loop = $derived(live.transport.loop);
  const rows = $derived(ledger ? lines(ledger, FIRST) : []);
  /** What later stages have to do is known when their strips are. */
  const measured = $derived(Object.values(work.analysed).filter((share) => share >= 1).length);
  const cautions = $derived(
    (ledger?.cautions ?? []).filter((c) => !stage?.silenced_cautions.includes(c.rule)),
  );
  /** Where each section ends: what the pass has not come to is not known yet, and not 0. */
  const ends = $derived(
    Object.fromEntries(
      (work.model ? sectionSpans(work.model, work.frames) : []).map((s) => [s.name, s.end]),
    ),
  );
  const ranges = ['lows', '150', '800', '5k'];

  $effect(() => {
    void [work.fresh, work.stripId, work.at, loop?.[0], loop?.[1], measured];
    untrack(load);
  });
  const load = newest(async () => {
    const { state, stripId, at, frames } = work;
    if (!state || !stripId || frames === 0) {
      ledger = null;
      later = [];
      return;
    }
    const [begin, end] = loop ?? [0, frames];
    const answer = await api.ledger(state.id, stripId, at, begin, end);
    ledger = answer.ledger;
    later = answer.later;
    done = answer.done;
  }, 400);

  /** What only bends or widens has no row of zeros. */
  function reduces(l: Ledger): boolean {
    const taken = Math.max(l.reduction.most, ...l.sections.map((s) => s.reduction.most));
    return taken > 0 || work.at === 'chain' || work.kind?.glyph === 'reduction';
  }

  /** Rows of what is left to a later stage; what it had before only where that differs. */
  function taken(now: Reduction, before: Reduction | null): { name: string; figures: Reduction }[] {
    const rows = [{ name: 'now', figures: now }];
    return before ? [{ name: 'before', figures: before }, ...rows] : rows;
  }

  function show(caution: Caution): void {
    span.show(caution.begin, caution.end);
    live.send({ type: 'seek', frame: caution.begin });
  }

  function silence(caution: Caution): void {
    if (!stage) return;
    void work.edit({
      type: 'set_stage',
      stage: stage.id,
      silenced_cautions: [...stage.silenced_cautions, caution.rule],
    });
  }
</script>

{#snippet figures(lines: Line[])}
  {#each lines as row (row.name)}
    <tr title={row.words}>
      <th>{row.name}</th><td>{row.in}</td><td>{row.out}</td><td>{row.diff}</td>
    </tr>
  {/each}
{/snippet}

{#snippet taken_row(name: string, r: Reduction, end: number)}
  {@const known = done >= 1 || end <= done * work.frames}
  <tr>
    <th>{name}</th>
    <td>{known ? figure(r.median, 1) : '–'}</td>
    <td>{known ? figure(r.p95, 1) : '–'}</td>
    <td>{known ? figure(r.most, 1) : '–'}</td>
    <td>{known ? figure(100 * r.active, 0) : '–'}</td>
  </tr>
{/snippet}

<aside class="ledger" aria-label="Ledger">
  <Choice
    label="Figures of"
    hidden
    options={['stage', 'chain']}
    value={work.at === 'chain' ? 'chain' : 'stage'}
    disabled={work.element ? [] : ['stage']}
    titles={{ stage: 'In and out of the selected stage', chain: 'In and out of the whole chain' }}
    onchoose={(v) => work.setScope(v as 'stage' | 'chain')}
  />
  <div class="figures">
    <table>
      <thead>
        <tr><th>{loop ? 'in the loop' : 'whole song'}</th><th>in</th><th>out</th><th>diff</th></tr>
      </thead>
      <tbody>
        {@render figures(rows)}
      </tbody>
    </table>
    {#if ledger}
      <details>
        <summary>more figures</summary>
        <table>
          <tbody>{@render figures(lines(ledger, MORE))}</tbody>
        </table>
        {#if ledger.sections.length}
          <table>
            <thead>
              <tr><th>Loudness LUFS</th><th>in</th><th>out</th><th>diff</th></tr>
            </thead>
            <tbody>{@render figures(loudness(ledger))}</tbody>
          </table>
        {/if}
      </details>
      <table>
        <thead>
          <tr
            ><th>Balance, dB</th>{#each ranges as name (name)}<th>{name}</th>{/each}</tr
          >
        </thead>
        <tbody>
          <tr
            ><th>change</th>{#each ledger.ranges_db as value, i (i)}<td
                >{value === null ? '–' : signed(value)}</td
              >{/each}</tr
          >
        </tbody>
      </table>
      {#if reduces(ledger)}
        <table class="taken">
          <thead>
            <tr title="While it reduces; time: the share of the time that it does, in %">
              <th>Taken, dB</th><th>median</th><th>95 %</th><th>most</th><th>time</th>
            </tr>
          </thead>
          <tbody>
            {#each ledger.sections as section (section.name)}
              {@render taken_row(section.name, section.reduction, ends[section.name] ?? 0)}
            {/each}
            {@render taken_row(
              loop ? 'the loop' : 'all',
              ledger.reduction,
              loop ? loop[1] : work.frames,
            )}
            {#if ledger.strongest && !stageAlone}
              <tr
                title="The rows above are the whole place: level in against level out, make-up apart"
              >
                <th colspan="4">one stage alone: {ledger.strongest[0]}</th>
                <td>{figure(Number(ledger.strongest[1]), 1)}</td>
              </tr>
            {/if}
          </tbody>
        </table>
      {/if}
      {#if ledger.given_back_db != null}
        <p class="kept">Loudness kept: {signed(ledger.given_back_db, 2)} dB given back</p>
      {/if}
      {#if ledger.contrast}
        {@const { quiet, loud, before, after } = ledger.contrast}
        <table>
          <thead>
            <tr><th colspan="4">{quiet} to {loud}, LU</th></tr>
          </thead>
          <tbody>
            <tr>
              <th>louder by</th><td>{signed(before)}</td><td>{signed(after)}</td><td
                >{signed(after - before)}</td
              >
            </tr>
          </tbody>
        </table>
      {/if}
      {#each later as { stage: next, strip: where, now, before } (where + next)}
        <table class="later" aria-label="What {next} on {where} still takes">
          <thead>
            <tr><th colspan="4">{next} on {where} takes, dB</th></tr>
          </thead>
          <tbody>
            {#each taken(now, before) as { name, figures } (name)}
              <tr>
                <th>{name}</th>
                <td title="median">{figure(figures.median, 1)}</td>
                <td title="95 %">{figure(figures.p95, 1)}</td>
                <td title="most">{figure(figures.most, 1)}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      {/each}
      {#each cautions as caution (caution.rule + caution.begin)}
        <p class="caution">
          <b>Caution.</b>
          {caution.words} <span>limit {figure(caution.limit, 1)}</span>
          <button onclick={() => show(caution)}>Show</button>
          {#if stage}<button onclick={() => silence(caution)}>Meant</button>{/if}
        </p>
      {/each}
    {/if}
    {#if done < 1 && work.frames > 0}<p class="note">measured {figure(done * 100, 0)} %</p>{/if}
  </div>
  <ListenBox {work} {live} {compare} />
</aside>

<style>
  .kept {
    margin: 0;
    color: var(--slate);
    font-size: var(--note);
  }
  .ledger {
    display: flex;
    flex-direction: column;
    gap: var(--s2);
    padding: 10px var(--s3);
    border-left: 1px solid var(--hair);
    min-height: 0;
    font-size: var(--note);
  }
  .figures {
    display: flex;
    flex-direction: column;
    gap: var(--s2);
    flex: 1;
    min-height: 0;
    overflow-y: auto;
  }
  details table {
    margin-bottom: var(--s2);
  }
  table {
    border-collapse: collapse;
    width: 100%;
  }
  th,
  td {
    padding: 1px 0;
    text-align: right;
    border-bottom: 1px solid var(--hair);
    white-space: nowrap;
  }
  th:first-child {
    text-align: left;
    font-weight: 400;
    overflow: hidden;
    text-overflow: ellipsis;
    max-width: 112px;
  }
  thead th {
    font-weight: 400;
    color: var(--muted);
  }
  .later thead th {
    max-width: 220px;
  }
  td {
    min-width: 40px;
    padding-left: var(--s1);
    font-weight: 500;
  }
  @media (max-width: 1100px) {
    .ledger {
      padding: 10px var(--s2);
      font-size: var(--small);
    }
    th:first-child {
      max-width: 76px;
    }
    td {
      min-width: 34px;
    }
  }
  .caution {
    padding-left: var(--s2);
    border-left: 3px double var(--ink);
  }
  .caution span,
  .note {
    color: var(--muted);
  }
  .caution button {
    text-decoration: underline;
    margin-right: 6px;
  }
</style>
