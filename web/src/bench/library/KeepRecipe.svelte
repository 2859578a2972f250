<script lang="ts">
  import Choice from '../../components/Choice.svelte';
  import { KINDS, type Compare, type ExtentKind } from '../../lib/compare.svelte';
  import type { Library } from '../../lib/library.svelte';

  interface Props {
    /** What the strip is called on which something stands. */
    strip: string;
    compare: Compare;
    library: Library;
  }
  let { strip, compare, library }: Props = $props();

  /** One of the user's own, whose words are changed; otherwise what stands is kept. */
  const changed = $derived(library.item && !library.item.ours ? library.item : null);
  // svelte-ignore state_referenced_locally
  let name = $state(changed?.name ?? strip);
  // svelte-ignore state_referenced_locally
  let note = $state(changed?.note ?? '');
  // svelte-ignore state_referenced_locally
  let tags = $state(changed?.tags.join(', ') ?? '');
  let first: HTMLInputElement | undefined = $state();

  $effect(() => first?.select());

  function keep(event: SubmitEvent): void {
    event.preventDefault();
    const list = tags
      .split(',')
      .map((tag) => tag.trim())
      .filter(Boolean);
    if (changed) void library.rename(changed, name.trim(), note.trim(), list);
    else void library.save(name.trim(), note.trim(), list);
  }
</script>

<form onsubmit={keep} aria-label={changed ? 'Words of this recipe' : 'Keep what stands'}>
  {#if !changed}
    <p>
      What stands on {strip} as a recipe. Keys from other strips become questions.
    </p>
    <Choice
      label="Keep the"
      options={[...KINDS]}
      value={compare.kind}
      disabled={compare.missing}
      onchoose={(kind) => (compare.wanted = kind as ExtentKind)}
    />
  {/if}
  <label>name <input bind:this={first} bind:value={name} required maxlength="80" /></label>
  <label>when and why <textarea bind:value={note} rows="3" maxlength="400"></textarea></label>
  <label>tags, with commas between <input bind:value={tags} /></label>
  <div class="acts">
    <button class="keep" type="submit">{changed ? 'Change' : 'Keep it'}</button>
    <button class="link" type="button" onclick={() => (library.saving = false)}>leave it</button>
  </div>
</form>

<style>
  form {
    display: grid;
    align-content: start;
    gap: var(--s2);
    border-left: 1px solid var(--hair);
    padding: 6px 14px;
    overflow-y: auto;
    font-size: var(--note);
  }
  p {
    margin: 0;
  }
  label {
    display: grid;
    color: var(--muted);
  }
  input,
  textarea {
    font: inherit;
    color: var(--ink);
    background: var(--field);
    border: 1px solid var(--hair);
    padding: 1px var(--s2);
    resize: none;
  }
  .acts {
    display: flex;
    align-items: baseline;
    gap: var(--s3);
  }
  .link {
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  .keep {
    background: var(--ink);
    color: var(--on-ink);
    padding: 3px 14px;
    font-weight: 600;
  }
</style>
