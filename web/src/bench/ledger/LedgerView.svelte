<script lang="ts">
  import { onDestroy, untrack } from 'svelte';
  import Choice from '../../components/Choice.svelte';
  import { api } from '../../lib/api';
  import type { Compare } from '../../lib/compare.svelte';
  import { figure } from '../../lib/figures';
  import type { Live } from '../../lib/live.svelte';
  import type { Caution, Later, Ledger } from '../../lib/types';
  import type { Work } from '../../lib/work.svelte';
  import CautionNote from './CautionNote.svelte';
  import LaterTable from './LaterTable.svelte';
  import LedgerTables from './LedgerTables.svelte';
  import ListenBox from './ListenBox.svelte';
  import TakenTable from './TakenTable.svelte';
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
  onDestroy(load.leave);

  /** What only bends or widens has no row of zeros. */
  function reduces(l: Ledger): boolean {
    const taken = Math.max(l.reduction.most, ...l.sections.map((s) => s.reduction.most));
    return taken > 0 || work.at === 'chain' || work.kind?.glyph === 'reduction';
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
    <LedgerTables {ledger} passage={loop ? 'the loop' : 'all'}>
      {#snippet taken(ledger)}
        {#if reduces(ledger)}
          <TakenTable
            {ledger}
            {ends}
            {stageAlone}
            passage={loop ? 'the loop' : 'all'}
            end={loop ? loop[1] : work.frames}
            known={done >= 1 ? Infinity : done * work.frames}
          />
        {/if}
      {/snippet}
    </LedgerTables>
    {#if ledger}
      {#each later as left (left.strip + left.stage)}
        <LaterTable later={left} />
      {/each}
      {#each cautions as caution (caution.rule + caution.begin)}
        <CautionNote
          {caution}
          onshow={() => show(caution)}
          onmeant={stage ? () => silence(caution) : undefined}
        />
      {/each}
    {/if}
    {#if done < 1 && work.frames > 0}<p class="note">measured {figure(done * 100, 0)} %</p>{/if}
  </div>
  <ListenBox {work} {live} {compare} />
</aside>

<style>
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
  .figures :global(details table) {
    margin-bottom: var(--s2);
  }
  .figures :global(table) {
    border-collapse: collapse;
    width: 100%;
  }
  .figures :global(:where(th, td)) {
    padding: 1px 0;
    text-align: right;
    border-bottom: 1px solid var(--hair);
    white-space: nowrap;
  }
  .figures :global(:where(th:first-child)) {
    text-align: left;
    font-weight: 400;
    overflow: hidden;
    text-overflow: ellipsis;
    max-width: 112px;
  }
  .figures :global(:where(thead th)) {
    font-weight: 400;
    color: var(--muted);
  }
  .figures :global(:where(td)) {
    min-width: 40px;
    padding-left: var(--s1);
    font-weight: 500;
  }
  @media (max-width: 1100px) {
    .ledger {
      padding: 10px var(--s2);
      font-size: var(--small);
    }
    .figures :global(:where(th:first-child)) {
      max-width: 76px;
    }
    .figures :global(:where(td)) {
      min-width: 34px;
    }
  }
  .note {
    color: var(--muted);
  }
</style>
