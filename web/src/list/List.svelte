<script lang="ts" generics="T">
  import { createVirtualizer } from "@tanstack/svelte-virtual";
  import { tick, untrack, type Snippet } from "svelte";
  import type { Choice } from "./choice.svelte";
  import type { Columns } from "../lib/columns.svelte";
  import Head from "./Head.svelte";
  import { Place } from "./place";

  /**
   * Rows by the ten thousand, of which those in view are drawn. One is the current one; by Shift, Ctrl and Ctrl+A more are chosen
   * with it. Rows are known by their numbers, so that what is chosen stays so in another order.
   */
  interface Props {
    label: string;
    columns: Columns<T>;
    choice: Choice<T>;
    sort?: string;
    /** Whether several rows can be chosen at once. */
    many?: boolean;
    busy?: boolean;
    open?: (row: T) => void;
    /** On a narrow screen, each row has a box by which it is chosen with others. */
    ticks?: boolean;
    /** A key that is no way through the list; whether it was one of the screen's. */
    key?: (e: KeyboardEvent) => boolean;
    /** Letters that are keys here or everywhere, and don't begin a search for a row. */
    reserved?: string;
    /** The place of the next row that begins with a text. */
    jump?: (text: string, from: number) => Promise<number>;
    /** What a column shows where that is more than its text, by the column's key. */
    cells?: Record<string, Snippet<[T]>>;
    /** A row on a narrow screen, of two lines. */
    narrow: Snippet<[T]>;
    empty: Snippet;
  }
  let {
    label,
    columns,
    choice,
    sort = $bindable(""),
    many = true,
    busy = false,
    ticks = false,
    open,
    key,
    reserved = "",
    jump,
    cells = {},
    narrow,
    empty,
  }: Props = $props();

  const rows = $derived(choice.rows);
  const at = $derived(choice.at);
  const HEAD = 34;
  /** Within so long, letters that are typed belong together, in ms. */
  const TYPED = 900;
  let scroller = $state<HTMLElement>();
  let width = $state(1000);
  let typed = "";
  let typedAt = 0;

  const small = $derived(width < 560);
  const row = $derived(small ? 54 : 33);

  const virtual = createVirtualizer<HTMLElement, HTMLElement>({
    count: 0,
    getScrollElement: () => scroller ?? null,
    estimateSize: () => row,
    overscan: 6,
    scrollMargin: HEAD,
    scrollPaddingStart: HEAD,
  });
  $effect(() => {
    const options = {
      count: rows.total,
      estimateSize: () => row,
      scrollMargin: small ? 0 : HEAD,
      scrollPaddingStart: small ? 0 : HEAD,
      getScrollElement: () => scroller ?? null,
    };
    void row;
    untrack(() => {
      $virtual.setOptions(options);
      $virtual.measure();
    });
  });
  const items = $derived($virtual.getVirtualItems());
  $effect(() => {
    const [first, last] = [items[0]?.index ?? 0, items.at(-1)?.index ?? 0];
    untrack(() => rows.show(first, last));
  });

  // svelte-ignore state_referenced_locally
  const place = new Place(label);
  $effect(() => {
    if (!busy && rows.total) void tick().then(() => place.stand());
  });
  $effect(() => {
    choice.reveal = (index) => {
      if (!place.stand() && index >= 0) $virtual.scrollToIndex(index, { align: "auto" });
    };
  });

  export function focus(): void {
    scroller?.focus();
  }
  export function toTop(): void {
    if (scroller) scroller.scrollTop = 0;
  }

  function press(e: MouseEvent, index: number): void {
    scroller?.focus({ preventScroll: true });
    typed = "";
    if (many && (e.ctrlKey || e.metaKey)) void choice.toggle(index);
    else void choice.go(index, many && e.shiftKey);
  }

  function onkeydown(e: KeyboardEvent): void {
    if (e.target !== scroller) return;
    const command = e.ctrlKey || e.metaKey;
    const page = Math.max(1, Math.floor(((scroller?.clientHeight ?? 0) - HEAD) / row) - 1);
    const ways: Record<string, number> = {
      ArrowDown: at + 1,
      ArrowUp: Math.max(0, at - 1),
      PageDown: Math.min(rows.total - 1, at + page),
      PageUp: Math.max(0, at - page),
      Home: 0,
      End: rows.total - 1,
    };
    // What is typed is looked for until something else is done.
    if (e.key in ways || command || e.key === "Escape") typed = "";
    if (e.key in ways && !e.altKey) void choice.go(ways[e.key]!, many && e.shiftKey);
    else if (many && command && e.key.toLowerCase() === "a") void choice.everything();
    else if (many && command && e.key === " " && at >= 0) void choice.toggle(at);
    else if (command || e.altKey) return;
    else if (e.key === "Escape" && choice.chosen.size > 1) choice.alone();
    else if (typing() && letter(e.key)) looking = type(e.key);
    else if (e.key === "Enter" && open) void looking.then(enter);
    else if (key?.(e)) {
      // it was the screen's own
    } else if (letter(e.key) && !reserved.includes(e.key.toLowerCase())) looking = type(e.key);
    else return;
    e.preventDefault();
    e.stopPropagation();
  }

  /** What is typed is still looked for: Enter waits for it. */
  let looking: Promise<void> = Promise.resolve();
  function enter(): void {
    const current = rows.at(at);
    if (current) open?.(current);
  }
  const typing = () => !!typed && performance.now() - typedAt < TYPED;
  const letter = (text: string) => !!jump && text.length === 1 && text !== " " && !"/?".includes(text);

  /** Letters lead to the next row that begins with them. */
  async function type(text: string): Promise<void> {
    typed = typing() ? typed + text : text;
    typedAt = performance.now();
    const wanted = typed;
    const found = await jump!(wanted, wanted.length > 1 ? Math.max(0, at) : at + 1);
    if (found >= 0 && wanted === typed) await choice.go(found);
  }
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div
  bind:this={scroller}
  bind:clientWidth={width}
  role="grid"
  aria-label={label}
  aria-multiselectable={many}
  aria-busy={busy}
  aria-rowcount={rows.total + 1}
  aria-activedescendant={at >= 0 ? `row-${columns.name}-${at}` : undefined}
  tabindex="0"
  class="rows relative min-h-32 grow overflow-auto"
  style="--columns: {small ? 'minmax(0, 1fr)' : columns.template}; --least: {small ? 0 : columns.least}px"
  {onkeydown}
  use:place.attach
>
  {#if !small}<Head {columns} bind:sort />{/if}
  <div
    role="presentation"
    class="relative"
    style="height: {$virtual.getTotalSize()}px; min-width: var(--least)"
  >
    {#each items as item (item.index)}
      {@const found = rows.at(item.index)}
      {@const isChosen = !!found && choice.chosen.has(choice.id(found))}
      <!-- svelte-ignore a11y_click_events_have_key_events -->
      <div
        role="row"
        tabindex="-1"
        id="row-{columns.name}-{item.index}"
        aria-rowindex={item.index + 2}
        aria-selected={isChosen}
        class="line body absolute inset-x-0 {isChosen ? 'chosen' : ''} {item.index === at ? 'current' : ''}"
        style="top: {item.start - $virtual.options.scrollMargin}px; height: {row}px"
        onmousedown={(e) => e.shiftKey && e.preventDefault()}
        onclick={(e) => press(e, item.index)}
        ondblclick={() => found && open?.(found)}
      >
        {#if !found}<span role="gridcell" class="col-span-full text-quiet">…</span>
        {:else if small}
          <div role="gridcell" class="col-span-full flex min-w-0 items-center gap-2">
            {#if ticks}
              <input
                type="checkbox"
                class="checkbox checkbox-xs shrink-0"
                tabindex="-1"
                aria-label="Choose it with others"
                checked={isChosen}
                onclick={(e) => {
                  e.stopPropagation();
                  void choice.toggle(item.index);
                }}
              />
            {/if}
            <div class="min-w-0 grow">{@render narrow(found)}</div>
          </div>
        {:else}
          {#each columns.shown as column (column.key)}
            <span
              role="gridcell"
              title={column.title?.(found)}
              class="{column.side === 'right' ? 'text-right' : ''} {column.num ? 'num' : ''} {column.quiet?.(
                found,
              )
                ? 'text-quiet'
                : ''}"
              >{#if cells[column.key]}{@render cells[column.key]!(found)}{:else}{column.text?.(
                  found,
                )}{/if}</span
            >
          {/each}
        {/if}
      </div>
    {/each}
  </div>
  {#if !rows.loading && !rows.total}
    <div role={small ? "row" : undefined} class="py-6 text-quiet">
      <span role={small ? "gridcell" : undefined}>{@render empty()}</span>
    </div>
  {/if}
</div>

<style>
  .line {
    display: grid;
    grid-template-columns: var(--columns);
    column-gap: 10px;
    align-items: center;
    min-width: var(--least);
    border-bottom: 1px solid var(--line);
    border-left: 3px solid transparent;
    padding: 0 6px 0 4px;
    cursor: default;
  }
  .line > span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .body:hover {
    background: var(--color-base-200);
  }
  .body.chosen {
    background: var(--color-base-300);
  }
  .body.current {
    border-left-color: var(--color-primary);
  }
  .rows:focus-visible {
    outline-offset: -2px;
    outline-width: 1px;
  }
</style>
