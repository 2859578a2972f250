<script lang="ts">
  import type { Compare } from '../../lib/compare.svelte';
  import { signed } from '../../lib/figures';
  import type { Library } from '../../lib/library.svelte';
  import type { Live } from '../../lib/live.svelte';
  import type { Work } from '../../lib/work.svelte';
  import KeepRecipe from './KeepRecipe.svelte';
  import RecipeDetail from './RecipeDetail.svelte';

  interface Props {
    work: Work;
    live: Live;
    compare: Compare;
    library: Library;
  }
  let { work, live, compare, library }: Props = $props();

  let file: HTMLInputElement | undefined = $state();
  let list: HTMLElement | undefined = $state();

  $effect(() => {
    void library.trying;
    list?.querySelector('[aria-selected=true]')?.scrollIntoView({ block: 'nearest' });
  });

  function toggle(tag: string): void {
    const { tags } = library;
    library.tags = tags.includes(tag) ? tags.filter((t) => t !== tag) : [...tags, tag];
  }

  function key(event: KeyboardEvent): void {
    const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (!by) return;
    library.step(by);
    event.preventDefault();
    event.stopPropagation();
  }

  async function read(): Promise<void> {
    const chosen = file?.files?.[0];
    if (chosen) await library.bringIn(chosen);
    if (file) file.value = '';
  }
</script>

<section class="panel" aria-label="Recipes">
  <header>
    <h2>Recipes</h2>
    <input type="search" placeholder="find" aria-label="Find a recipe" bind:value={library.query} />
    <span class="count" role="status">{library.shown.length} of {library.items.length}</span>
    <span class="space"></span>
    <button onclick={() => (library.saving = !library.saving)}>keep what stands</button>
    <button onclick={() => file?.click()}>bring in a file</button>
    <button onclick={() => library.close()} title="Esc">back to the stage</button>
    <input
      bind:this={file}
      type="file"
      accept=".json,application/json"
      hidden
      aria-label="Recipe file"
      onchange={() => void read()}
    />
  </header>
  <div class="tags" role="group" aria-label="Tags">
    {#each library.everyTag as tag (tag)}
      <button aria-pressed={library.tags.includes(tag)} onclick={() => toggle(tag)}>{tag}</button>
    {/each}
  </div>
  <div class="body">
    <div
      class="list"
      role="listbox"
      aria-label="Recipes to try"
      tabindex="0"
      bind:this={list}
      onkeydown={key}
    >
      <button
        class="row"
        role="option"
        tabindex="-1"
        aria-selected={library.trying === null}
        onclick={() => library.try(null)}
      >
        <b>as it stands</b><span class="what"></span><span class="plays"></span>
        <span class="note">what is there without any of these</span>
      </button>
      {#each library.shown as item (item.id)}
        <button
          class="row"
          role="option"
          tabindex="-1"
          data-recipe={item.id}
          aria-selected={library.trying === item.id}
          onclick={() => library.try(item.id)}
        >
          <b>{item.name}</b>
          <span class="what">
            {item.ours ? '' : 'mine · '}{item.words}
            {#each item.inputs as name (name)}<span class="key">key: {name}</span>{/each}
          </span>
          <span class="plays"
            >{library.plays(item.id) === null ? '' : signed(library.plays(item.id) ?? 0)}</span
          >
          <span class="note">{item.problem ?? item.note}</span>
        </button>
      {:else}
        <p class="none">Nothing says that; all {library.items.length} without the search.</p>
      {/each}
    </div>
    {#if library.saving}
      <KeepRecipe strip={work.strip?.name ?? ''} {compare} {library} />
    {:else}
      <RecipeDetail {work} {live} {library} />
    {/if}
  </div>
</section>

<style>
  .panel {
    display: grid;
    grid-template-rows: auto auto minmax(0, 1fr);
    border-top: 1px solid var(--hair);
    min-height: 0;
  }
  header,
  .tags {
    display: flex;
    align-items: center;
    gap: 10px;
    padding: 6px 14px 4px;
    white-space: nowrap;
    flex-wrap: wrap;
  }
  h2 {
    font-size: var(--heading);
  }
  input[type='search'] {
    width: 130px;
    background: var(--field);
    border: 1px solid var(--hair);
    color: inherit;
    padding: 1px var(--s2);
  }
  .count,
  .note,
  .what,
  .none {
    color: var(--muted);
  }
  .space {
    flex: 1;
  }
  header button {
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  .tags {
    flex-wrap: wrap;
    gap: 2px var(--s3);
    padding-top: 0;
    font-size: var(--note);
  }
  .tags button[aria-pressed='true'] {
    background: var(--ink);
    color: var(--on-ink);
    padding: 0 var(--s2);
  }
  .body {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 340px;
    min-height: 0;
    border-top: 1px solid var(--hair);
  }
  .list {
    overflow-y: auto;
    min-height: 0;
  }
  .row {
    display: grid;
    grid-template-columns: minmax(0, auto) minmax(0, 1fr) 40px;
    gap: 0 var(--s3);
    width: 100%;
    padding: 4px 14px;
    border-bottom: 1px solid var(--hair);
    text-align: left;
    font-size: var(--note);
  }
  .row b {
    font-size: var(--body, inherit);
    white-space: nowrap;
  }
  .what,
  .note {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .note {
    grid-column: 1 / -1;
  }
  .key {
    color: var(--key);
  }
  .plays {
    text-align: right;
  }
  .row[aria-selected='true'] {
    background: var(--ink);
    color: var(--on-ink);
  }
  .row[aria-selected='true'] span {
    color: inherit;
  }
  .none {
    padding: 8px 14px;
  }
  @media (max-width: 1100px) {
    .body {
      grid-template-columns: minmax(0, 1fr) 260px;
    }
  }
</style>
