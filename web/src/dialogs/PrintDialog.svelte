<script lang="ts">
  import Checkbox from '../components/Checkbox.svelte';
  import Choice from '../components/Choice.svelte';
  import Dialog from '../components/Dialog.svelte';
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
  const CONTAINERS = { WAV: 'wav', 'Broadcast WAV': 'bwf', AIFF: 'aiff', FLAC: 'flac' } as const;
  type Container = keyof typeof CONTAINERS;

  let what = $state(MIX);
  let passage = $state('whole song');
  let container = $state<string>('WAV');
  let width = $state('24');
  let kbps = $state(192);
  let rate = $state('as the session');
  let dither = $state<'tpdf' | 'shaped' | 'none'>('tpdf');
  let fadeIn = $state('0');
  let fadeOut = $state('0');
  let cues = $state(true);
  let more = $state(false);
  let names = $state(stored<Record<string, string>>(KEPT, {}));
  let problem = $state<string | null>(null);
  let delivery = $state.raw<Delivery | null>(null);
  let words = $state.raw<StemsWords | null>(null);

  const loop = $derived(live.transport.loop);
  const strip = $derived(work.strip);
  const coder = $derived(delivery?.coders.find((c) => c.title === container) ?? null);
  const widths = $derived(
    container === 'AIFF' || container === 'FLAC' ? ['16', '24'] : ['16', '24', '32f'],
  );
  const format = $derived(
    coder ? `${coder.codec}-${kbps}` : `${CONTAINERS[container as Container]}-${width}`,
  );
  const sections = $derived(work.model?.sections ?? []);

  $effect(() => {
    void api.delivery().then((d) => (delivery = d));
    if (work.state) void api.stemsWords(work.state.id).then((w) => (words = w));
  });
  $effect(() => {
    if (!widths.includes(width)) width = '24';
    if (coder && !coder.kbps.includes(kbps)) kbps = coder.kbps[coder.kbps.length - 2] ?? kbps;
  });

  function seconds(text: string): number {
    const value = Number(text.replace(',', '.'));
    if (!Number.isFinite(value) || value < 0 || value > 60)
      throw new Refusal(`“${text}” is no length of a fade; 0 to 60 s can be typed`);
    return value;
  }

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
      format,
      rate: rate === 'as the session' ? null : ((Number.parseFloat(rate) * 1000) as 44100),
      dither,
      begin: span.begin,
      end: span.end,
      fade_in_s: seconds(fadeIn),
      fade_out_s: seconds(fadeOut),
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
    <label
      >What
      <select bind:value={what} aria-label="What">
        <option>{MIX}</option>
        <option>{strip?.name} after its chain</option>
        <option>{strip?.name} after its fader</option>
        <option>{GROUPS}</option>
        <option>{TRACKS}</option>
      </select></label
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
    <Choice
      label="File"
      options={[...Object.keys(CONTAINERS), ...(delivery?.coders ?? []).map((c) => c.title)]}
      value={container}
      onchoose={(v) => (container = v)}
    />
    <div class="three">
      {#if coder}
        <label
          >kbit/s
          <select bind:value={kbps} aria-label="kbit/s">
            {#each coder.kbps as k (k)}<option value={k}>{k}</option>{/each}
          </select></label
        >
        <span class="said">a listening copy; it is coded last, from float</span>
      {:else}
        <Choice
          label="Bits"
          options={widths}
          value={width}
          titles={{ '32f': 'float: nothing is dropped, nothing is dithered' }}
          onchoose={(v) => (width = v)}
        />
        <label
          >Rate
          <select bind:value={rate} aria-label="Rate">
            <option>as the session</option>
            {#each [44.1, 48, 88.2, 96, 192] as khz (khz)}<option>{khz} kHz</option>{/each}
          </select></label
        >
        {#if width !== '32f'}
          <Choice
            label="Dither, once, last"
            options={['tpdf', 'shaped', 'none']}
            value={dither}
            titles={{
              tpdf: 'triangular, 2 LSB, its own for each file',
              shaped:
                'the same with its noise moved to where the ear hears it least; for 44.1 and 48 kHz',
            }}
            onchoose={(v) => (dither = v as typeof dither)}
          />
        {/if}
      {/if}
    </div>
    <button class="act" aria-expanded={more} onclick={() => (more = !more)}
      >{more ? 'fewer' : 'fades, names, markers…'}</button
    >
    {#if more}
      <div class="fields">
        <label>Fade in, s <input bind:value={fadeIn} inputmode="decimal" /></label>
        <label>Fade out, s <input bind:value={fadeOut} inputmode="decimal" /></label>
        {#each [['title', 'Title'], ['artist', 'Artist'], ['isrc', 'ISRC'], ['comment', 'Comment']] as [key, label] (key)}
          <label>{label} <input bind:value={names[key as string]} maxlength="200" /></label>
        {/each}
        <label
          >File name <input
            bind:value={names.pattern}
            placeholder={'{session} - {part}'}
            title={'of {session}, {part}, {rate}, {format} and words'}
          /></label
        >
        <Checkbox on={cues} label="sections as cue markers" onswitch={(on) => (cues = on)} />
      </div>
    {/if}
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
  label {
    display: grid;
    gap: 2px;
    color: var(--slate);
  }
  select,
  input {
    color: var(--ink);
    background: var(--ground);
    border-bottom: 1px solid var(--edge);
    padding: 2px var(--s1);
    min-width: 0;
  }
  .three {
    display: flex;
    gap: var(--s4);
    align-items: end;
  }
  .fields {
    display: grid;
    grid-template-columns: repeat(4, 1fr);
    gap: var(--s2);
    align-items: end;
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
