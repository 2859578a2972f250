<script lang="ts">
  import { api } from '../lib/api';
  import type { Live } from '../lib/live.svelte';
  import type { Lever, SessionItem, SessionState } from '../lib/types';

  interface Props {
    live: Live;
  }
  let { live }: Props = $props();

  const NUMBERS = [1, 2, 3, 4, 5, 6, 7, 8];
  let sessions = $state.raw<SessionItem[]>([]);
  let current = $state.raw<SessionState | null>(null);
  let held = $state<Record<number, number>>({});
  let midi = $state('');
  /** The fader in hand, 0 for none: what comes back late from the server does not move it. */
  let inHand = 0;
  /** Controller numbers of a MIDI device in the order in which they were first moved. */
  let learned: number[] = [];
  const levers = $derived<(Lever | undefined)[]>(current?.model.levers ?? []);

  $effect(() => {
    void start();
  });
  $effect(() =>
    live.onEvent((event) => {
      if (event.type === 'changed' && event.session === current?.id) void load(event.session);
      if (event.type === 'lever_moved') {
        const at = levers.findIndex((l) => l?.id === event.lever);
        if (at >= 0 && at + 1 !== inHand) held = { ...held, [at + 1]: event.value };
      }
    }),
  );

  async function start(): Promise<void> {
    sessions = await api.sessions();
    const first = sessions[0];
    if (first) await open(first.id);
  }

  async function load(id: number): Promise<void> {
    current = await api.session(id);
    held = inHand ? { [inHand]: held[inHand] ?? 0 } : {};
  }

  async function open(id: number): Promise<void> {
    await load(id);
    live.send({ type: 'open', session: id });
  }

  function fader(number: number, value: number, down: boolean): void {
    held = { ...held, [number]: value };
    live.send({ type: 'surface', part: 'fader', number, value, held: down });
  }

  function move(number: number, value: number): void {
    inHand = number;
    fader(number, value, true);
  }

  function letGo(number: number, value: number): void {
    if (inHand !== number) return;
    inHand = 0;
    fader(number, value, false);
  }

  function button(number: number): void {
    live.send({ type: 'surface', part: 'button', number, value: 1, held: false });
  }

  const value = (number: number): number => held[number] ?? levers[number - 1]?.value ?? 0;

  async function useMidi(): Promise<void> {
    try {
      const access = await navigator.requestMIDIAccess();
      let count = 0;
      for (const input of access.inputs.values()) {
        input.onmidimessage = (event) => heard(event.data ?? new Uint8Array());
        count += 1;
      }
      midi = count
        ? `${count} MIDI ${count === 1 ? 'input' : 'inputs'}: the first eight controllers moved are the faders`
        : 'no MIDI input is there';
    } catch {
      midi = 'the browser gives no MIDI';
    }
  }

  let settle = 0;
  function heard(data: Uint8Array): void {
    const [status = 0, controller = 0, amount = 0] = data;
    if ((status & 0xf0) !== 0xb0) return;
    if (!learned.includes(controller) && learned.length < 8) learned = [...learned, controller];
    const number = learned.indexOf(controller) + 1;
    if (number < 1) return;
    fader(number, amount / 127, true);
    clearTimeout(settle);
    settle = window.setTimeout(() => fader(number, amount / 127, false), 400);
  }
</script>

<main class="surface" aria-label="Control surface">
  <header>
    <b>Control surface</b>
    <select
      aria-label="Session"
      value={current?.id}
      onchange={(e) => void open(Number(e.currentTarget.value))}
    >
      {#each sessions as session (session.id)}<option value={session.id}>{session.name}</option
        >{/each}
    </select>
    {#if 'requestMIDIAccess' in navigator}
      <button onclick={() => void useMidi()}>use a MIDI device</button>
    {/if}
    <span>{midi}</span>
    {#if !live.connected}<span role="status">not connected</span>{/if}
  </header>
  <div class="parts">
    {#each NUMBERS as number (number)}
      {@const lever = levers[number - 1]}
      <div class="part" class:empty={!lever}>
        <span class="name">{lever?.name ?? 'no lever'}</span>
        <input
          type="range"
          min="0"
          max="1"
          step="0.005"
          aria-label="Fader {number}"
          disabled={!lever}
          value={value(number)}
          oninput={(e) => move(number, Number(e.currentTarget.value))}
          onchange={(e) => letGo(number, Number(e.currentTarget.value))}
          onpointerup={(e) => letGo(number, Number(e.currentTarget.value))}
        />
        <b>{Math.round(100 * value(number))} %</b>
        <button
          class="press"
          aria-label="Button {number}"
          disabled={!lever}
          title="To 0 and back"
          onclick={() => button(number)}>{number}</button
        >
      </div>
    {/each}
  </div>
</main>

<style>
  .surface {
    display: grid;
    grid-template-rows: 44px 1fr;
    height: 100%;
  }
  header {
    display: flex;
    gap: 20px;
    align-items: center;
    padding: 0 20px;
    border-bottom: 1px solid var(--ink);
  }
  header button {
    border-bottom: 1px dotted currentColor;
  }
  select {
    background: var(--field);
    border: 1px solid var(--hair);
  }
  .parts {
    display: grid;
    grid-template-columns: repeat(8, 1fr);
    padding: var(--s5) 20px;
    gap: var(--s4);
  }
  .part {
    display: grid;
    grid-template-rows: 24px 1fr 24px 44px;
    justify-items: center;
    gap: var(--s2);
    border-left: 1px solid var(--hair);
    min-width: 0;
  }
  .empty {
    opacity: 0.45;
  }
  .name {
    max-width: 100%;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  input {
    writing-mode: vertical-lr;
    direction: rtl;
    height: 100%;
    accent-color: var(--ink);
  }
  .press {
    width: 64px;
    height: 40px;
    text-align: center;
    border: 1px solid var(--ink);
  }
</style>
