<script lang="ts">
  import Dialog from '../components/Dialog.svelte';
  import type { RecipeFile } from '../lib/types';
  import type { Work } from '../lib/work.svelte';
  import KeySource from '../bench/panel/KeySource.svelte';
  import type { Score } from '../bench/score/score.svelte';

  interface Props {
    work: Work;
    score: Score;
    found: RecipeFile;
    place: string;
    index: number;
    onclose: () => void;
  }
  let { work, score, found, place, index, onclose }: Props = $props();

  let inputs = $state<Record<string, string>>({});
  const ready = $derived(found.inputs.every((name) => inputs[name]));

  function use(): void {
    const recipe = found.recipe;
    void score.add({ type: 'apply_recipe', place, index, recipe, inputs, instead: false });
    onclose();
  }
</script>

<Dialog title="Recipe “{String(found.recipe.name)}”" {onclose}>
  <p>This recipe listens to other signals. Choose what each of them is.</p>
  {#each found.inputs as name (name)}
    <p class="line">
      <span>{name}</span>
      <KeySource
        {work}
        label="Signal for {name}"
        value={inputs[name] ?? ''}
        onchoose={(source) => (inputs = { ...inputs, [name]: source })}
      />
    </p>
  {/each}
  <button class="use" disabled={!ready} onclick={use}>Use the recipe</button>
</Dialog>

<style>
  .line {
    display: grid;
    grid-template-columns: 160px 1fr;
    padding: var(--s1) 0;
  }
  .use {
    margin-top: var(--s3);
    padding: var(--s1) 14px;
    border: 1px solid var(--ink);
  }
</style>
