<script lang="ts" generics="T">
  import type { Column, Columns } from "../lib/columns.svelte";

  /** The columns' names: pressed they sort, dragged at their edge they get another width. */
  let { columns, sort = $bindable() }: { columns: Columns<T>; sort: string } = $props();
  let sizing = $state<{ column: Column<T>; from: number; width: number } | null>(null);

  function sortBy(column: Column<T>): void {
    const [up, down] = [column.sort!, `-${column.sort}`];
    sort = sort === up ? down : sort === down ? up : column.down ? down : up;
  }
  function beginSizing(e: PointerEvent & { currentTarget: HTMLElement }, column: Column<T>): void {
    const head = e.currentTarget.parentElement!;
    sizing = { column, from: e.clientX, width: head.getBoundingClientRect().width };
    e.currentTarget.setPointerCapture(e.pointerId);
    e.preventDefault();
  }
</script>

<div role="row" class="line sticky top-0 z-10 bg-base-100 text-quiet" aria-rowindex="1">
  {#each columns.shown as column (column.key)}
    {@const on = !!column.sort && (sort === column.sort || sort === `-${column.sort}`)}
    <span
      role="columnheader"
      aria-sort={on ? (sort.startsWith("-") ? "descending" : "ascending") : undefined}
      class="relative whitespace-nowrap {column.side === 'right' ? 'text-right' : ''}"
    >
      {#if column.sort}
        <button class={on ? "font-semibold text-base-content" : ""} onclick={() => sortBy(column)}
          >{column.label}{on ? (sort.startsWith("-") ? " ↓" : " ↑") : ""}</button
        >
      {:else}{column.label}{/if}
      <span
        role="presentation"
        class="edge"
        title="Drag to size; press twice for the usual width"
        onpointerdown={(e) => beginSizing(e, column)}
        onpointermove={(e) => sizing && columns.size(sizing.column, sizing.width + e.clientX - sizing.from)}
        onpointerup={() => (sizing = null)}
        ondblclick={() => columns.size(column, null)}
      ></span>
    </span>
  {/each}
</div>

<style>
  .line {
    display: grid;
    grid-template-columns: var(--columns);
    column-gap: 10px;
    align-items: center;
    height: 34px;
    min-width: var(--least);
    border: solid var(--line);
    border-width: 1px 0;
    padding: 0 6px 0 7px;
    cursor: default;
  }
  .edge {
    position: absolute;
    inset: 0 -8px 0 auto;
    width: 7px;
    cursor: col-resize;
    touch-action: none;
  }
  .edge:hover {
    border-right: 2px solid var(--edge);
  }
</style>
