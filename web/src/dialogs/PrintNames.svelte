<script lang="ts">
  import Checkbox from '../components/Checkbox.svelte';
  import Field from '../components/Field.svelte';

  interface Props {
    /** As typed, in seconds. */
    fades: { in_s: string; out_s: string };
    names: Record<string, string>;
    cues: boolean;
  }
  let { fades = $bindable(), names = $bindable(), cues = $bindable() }: Props = $props();

  const WORDS = { title: 'Title', artist: 'Artist', isrc: 'ISRC', comment: 'Comment' };
</script>

<div class="fields">
  <Field label="Fade in, s"><input bind:value={fades.in_s} inputmode="decimal" /></Field>
  <Field label="Fade out, s"><input bind:value={fades.out_s} inputmode="decimal" /></Field>
  {#each Object.entries(WORDS) as [key, label] (key)}
    <Field {label}><input bind:value={names[key]} maxlength="200" /></Field>
  {/each}
  <Field label="File name"
    ><input
      bind:value={names.pattern}
      placeholder={'{session} - {part}'}
      title={'of {session}, {part}, {rate}, {format} and words'}
    /></Field
  >
  <Checkbox on={cues} label="sections as cue markers" onswitch={(on) => (cues = on)} />
</div>

<style>
  .fields {
    display: grid;
    grid-template-columns: repeat(4, 1fr);
    gap: var(--s2);
    align-items: end;
  }
</style>
