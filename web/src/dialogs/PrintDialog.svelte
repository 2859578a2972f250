<script lang="ts">
  import Choice from '../components/Choice.svelte';
  import Dialog from '../components/Dialog.svelte';
  import Field from '../components/Field.svelte';
  import { fadeSeconds } from '../lib/printing';
  import PrintNames from './PrintNames.svelte';
  import PrintSound, { type SoundOptions } from './PrintSound.svelte';
  import PrintList from '../proof/PrintList.svelte';
  import { api, Refusal } from '../lib/api';
  import { sectionSpans } from '../lib/sections';
  import { stored } from '../lib/stored';
  import type { Live } from '../lib/live.svelte';
  import type { Delivery, PrintOptions, StemsWords } from '../lib/types';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    live: Live;
    onclose: () => void;
  }
  let { work, live, onclose }: Props = $props();

  const MIX = 'main mix';
  const GROUPS = 'stems: what goes to the main bus';
  const TRACKS = 'stems: every track, buses dry';
  const KEPT = 'print names';

  let what = $state(MIX);
  let passage = $state('whole song');
  let sound = $state.raw<SoundOptions>({ format: 'wav-24', rate: null, dither: 'tpdf' });
  let fades = $state({ in_s: '0', out_s: '0' });
  let cues = $state(true);
  let more = $state(false);
  let names = $state(stored<Record<string, string>>(KEPT, {}));
  let problem = $state<string | null>(null);
  let delivery = $state.raw<Delivery | null>(null);
  let words = $state.raw<StemsWords | null>(null);

  const loop = $derived(live.transport.loop);
  const strip = $derived(work.strip);
  const sections = $derived(work.model?.sections ?? []);

  $effect(() => {
    void api.delivery().then((d) => (delivery = d));
    if (work.state) void api.stemsWords(work.state.id).then((w) => (words = w));
  });

  function spans(): { begin: number; end: number | null; name: string }[] {
    if (passage === 'each section' && work.model) return sectionSpans(work.model, work.frames);
    if (passage === 'loop' && loop) return [{ begin: loop[0], end: loop[1], name: '' }];
    return [{ begin: 0, end: null, name: '' }];
  }

  function options(span: { begin: number; end: number | null; name: string }): PrintOptions {
    const pattern = names.pattern || '{session} - {part}';
    const section = span.name.replaceAll('{', '(').replaceAll('}', ')');
    return {
      strip: what.includes('after its') ? (strip?.id ?? null) : null,
      tap: what.includes('fader') ? 'fader' : 'chain',
      ...sound,
      begin: span.begin,
      end: span.end,
      fade_in_s: fadeSeconds(fades.in_s),
      fade_out_s: fadeSeconds(fades.out_s),
      cues,
      name: section ? `${pattern} - ${section}` : pattern,
      title: names.title ?? '',
      artist: names.artist ?? '',
      isrc: names.isrc ?? '',
      comment: names.comment ?? '',
    };
  }

  async function print(): Promise<void> {
    if (!work.state) return;
    localStorage.setItem(KEPT, JSON.stringify(names));
    try {
      for (const span of spans()) {
        const wanted = options(span);
        if (what === GROUPS || what === TRACKS) {
          const set = what === GROUPS ? 'groups' : 'tracks';
          await api.printStems(work.state.id, { set, options: wanted });
        } else await api.print(work.state.id, wanted);
      }
      problem = null;
    } catch (error) {
      problem = error instanceof Refusal ? error.message : String(error);
    }
  }
</script>

<Dialog title="Print" {onclose} wide>
  <div class="form">
    <Field label="What"
      ><select bind:value={what} aria-label="What">
        <option>{MIX}</option>
        <option>{strip?.name} after its chain</option>
        <option>{strip?.name} after its fader</option>
        <option>{GROUPS}</option>
        <option>{TRACKS}</option>
      </select></Field
    >
    {#if words && what === GROUPS}<p class="said">{words.groups}</p>{/if}
    {#if words && what === TRACKS}<p class="said">{words.tracks}</p>{/if}
    <Choice
      label="Passage"
      options={['whole song', 'loop', 'each section']}
      value={passage}
      disabled={[...(loop ? [] : ['loop']), ...(sections.length ? [] : ['each section'])]}
      onchoose={(v) => (passage = v)}
    />
    <PrintSound {delivery} bind:sound />
    <button class="act" aria-expanded={more} onclick={() => (more = !more)}
      >{more ? 'fewer' : 'fades, names, markers…'}</button
    >
    {#if more}<PrintNames bind:fades bind:names bind:cues />{/if}
    <div class="last">
      {#if problem}<p role="alert">{problem}</p>{/if}
      <button class="primary go" onclick={() => void print()}>Print</button>
    </div>
  </div>
  <PrintList {work} {live} />
</Dialog>

<style>
  .form {
    display: grid;
    gap: var(--s2);
    margin-bottom: var(--s3);
  }
  .said {
    color: var(--muted);
    font-size: var(--note);
  }
  .act {
    justify-self: start;
    text-decoration: underline dotted;
  }
  .last {
    display: flex;
    justify-content: end;
    align-items: center;
    gap: var(--s3);
  }
  .go {
    padding: var(--s1) var(--s5);
  }
</style>
