<script lang="ts">
  import type { Part, SectionSpan } from '../../lib/sections';

  interface Props {
    section: SectionSpan;
    /** Where it begins and ends on the row, as shares. */
    left: number;
    right: number;
    place: string;
    /** Which part of it the keyboard holds. */
    chosen: Part | null;
    naming: boolean;
    onname: () => void;
    onrename: (name: string) => void;
    onaway: () => void;
  }
  let { section, left, right, place, chosen, naming, onname, onrename, onaway }: Props = $props();
</script>

<div
  class="section"
  class:open={section.open}
  style:left="{100 * left}%"
  style:width="{100 * (right - left)}%"
>
  <span
    class="edge start"
    role="presentation"
    class:chosen={chosen === 'start'}
    data-grab="start:{section.index}"
  ></span>
  {#if naming}
    <input
      aria-label="Name of the section"
      maxlength="80"
      value={section.name}
      {@attach (node: HTMLInputElement) => {
        node.focus();
        node.select();
      }}
      onblur={(e) => naming && onrename(e.currentTarget.value)}
      onkeydown={(e) => {
        e.stopPropagation();
        if (e.key === 'Enter') onrename(e.currentTarget.value);
        if (e.key === 'Escape') onrename(section.name);
      }}
    />
  {:else}
    <span
      class="name"
      role="presentation"
      class:chosen={chosen === 'name'}
      title="{section.name}, {place}"
      data-grab="name:{section.index}"
      ondblclick={onname}>{section.name}</span
    >
  {/if}
  <button
    class="away"
    tabindex="-1"
    aria-label="Take the section {section.name} away"
    title="Take {section.name} away"
    onclick={onaway}>×</button
  >
  <span
    class="edge end"
    role="presentation"
    class:chosen={chosen === 'end'}
    data-grab="end:{section.index}"
  ></span>
</div>

<style>
  .section {
    position: absolute;
    top: 0;
    bottom: 0;
    display: flex;
    border-left: 2px solid var(--ink);
    border-right: 1px solid var(--ink);
    background: var(--ground);
    cursor: grab;
  }
  .section.open {
    border-right-color: var(--hair);
  }
  .name {
    flex: 1;
    padding: 0 2px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-weight: 600;
  }
  .away {
    display: none;
    padding: 0 3px;
    color: var(--muted);
  }
  .section:hover .away {
    display: block;
  }
  .edge {
    flex: none;
    width: 5px;
    cursor: ew-resize;
  }
  input {
    flex: 1;
    min-width: 60px;
    height: 18px;
    padding: 0 var(--s1);
    background: var(--field);
    border: 1px solid var(--ochre);
  }
  :global(.row:focus-visible) .chosen {
    text-decoration: underline;
    background: var(--ochre-soft);
  }
</style>
