<script lang="ts">
  import MovingNumber from '../components/MovingNumber.svelte';
  import { hanging } from '../lib/strips';
  import type { Strip } from '../lib/types';
  import type { Work } from '../lib/work.svelte';

  interface Props {
    work: Work;
    strip: Strip;
    /** Shows the automation where it is edited. */
    onlane: () => void;
  }
  let { work, strip, onlane }: Props = $props();

  const strips = $derived(work.model?.strips ?? []);
  const unsent = $derived(
    strips.filter(
      (b) =>
        b.kind !== 'track' && b.id !== strip.id && !strip.sends.some((send) => send.to === b.id),
    ),
  );
  const name = (id: string): string => strips.find((s) => s.id === id)?.name ?? id;
</script>

<span class="sends">
  {#each strip.sends as send (send.to)}
    <span class="send" class:quiet={!send.on}>
      <button
        title={send.on ? 'Send is on' : 'Send is off'}
        aria-pressed={send.on}
        onclick={() =>
          void work.edit({ type: 'set_send', strip: strip.id, to: send.to, on: !send.on })}
        >{name(send.to)}</button
      >
      <MovingNumber
        of={work.movable(strip.id, `send:${send.to}`)}
        label="Send of {strip.name} to {name(send.to)}"
        value={send.gain_db}
        onhold={(v) => work.holdSend(strip.id, send.to, v)}
        {onlane}
      />
      <button
        class="small"
        title="Before or after the fader"
        onclick={() =>
          void work.edit({
            type: 'set_send',
            strip: strip.id,
            to: send.to,
            pre_fader: !send.pre_fader,
          })}>{send.pre_fader ? 'before' : 'after'}</button
      >
      <button
        class="small"
        aria-label="Take the send of {strip.name} to {name(send.to)} away"
        onclick={() => void work.edit({ type: 'remove_send', strip: strip.id, to: send.to })}
        >×</button
      >
    </span>
  {/each}
  {#if strip.kind !== 'main' && unsent.length}
    <select
      class="more"
      aria-label="Add a send from {strip.name}"
      value=""
      onchange={(e) => {
        const to = e.currentTarget.value;
        e.currentTarget.value = '';
        if (to) void work.edit({ type: 'set_send', strip: strip.id, to, gain_db: -6 });
      }}
    >
      <option value="">send…</option>
      {#each unsent as bus (bus.id)}
        <option value={bus.id} disabled={hanging(strips, bus.id).has(strip.id)}>{bus.name}</option>
      {/each}
    </select>
  {/if}
</span>

<style>
  .sends {
    display: flex;
    flex-wrap: wrap;
    gap: 2px var(--s3);
    font-size: var(--note);
    min-width: 0;
  }
  .send {
    display: inline-flex;
    gap: 6px;
  }
  .quiet {
    text-decoration: line-through;
    color: var(--muted);
  }
  .small {
    color: var(--muted);
  }
  .more {
    color: var(--muted);
    width: 62px;
  }
  select {
    background: var(--field);
    border: 1px solid var(--hair);
    font-size: var(--note);
  }
</style>
