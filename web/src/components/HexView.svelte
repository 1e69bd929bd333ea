<script lang="ts">
  import type { FieldSpan } from "../lib/api";

  /**
   * A file's bytes in hexadecimal and text. Only what is on screen is held: the rows are placed by number, not by a
   * tall element, so that a file of any size scrolls alike.
   */
  let {
    size,
    read,
    spans,
    cursor = $bindable(0),
    first = $bindable(0),
  }: {
    size: number;
    read: (at: number, length: number) => Promise<Uint8Array>;
    spans: FieldSpan[];
    cursor: number;
    first: number;
  } = $props();

  const WIDTH = 16;
  const HEIGHT = 20;
  const PAGE = 4096;
  const KEPT = 64;
  let height = $state(400);
  let pages = $state.raw(new Map<number, Uint8Array>());
  const asked = new Set<number>();

  const rows = $derived(Math.max(1, Math.floor(height / HEIGHT)));
  const total = $derived(Math.ceil(size / WIDTH));
  const highest = $derived(Math.max(0, total - rows));

  $effect(() => {
    const from = Math.floor((first * WIDTH) / PAGE);
    const to = Math.floor(Math.min(size - 1, (first + rows) * WIDTH) / PAGE);
    for (let page = from; page <= to; page++) void fetchPage(page);
  });

  async function fetchPage(page: number) {
    if (page < 0 || page * PAGE >= size || pages.has(page) || asked.has(page)) return;
    asked.add(page);
    try {
      const data = await read(page * PAGE, PAGE);
      const next = new Map(pages);
      next.set(page, data);
      while (next.size > KEPT) next.delete(next.keys().next().value!);
      pages = next;
    } finally {
      asked.delete(page);
    }
  }

  function byteAt(at: number): number | undefined {
    return pages.get(Math.floor(at / PAGE))?.[at % PAGE];
  }

  const spanOf = $derived.by(() => {
    const out = new Map<number, { span: FieldSpan; tint: number }>();
    spans.forEach((span, n) => {
      const end = Math.min(span.at + span.length, (first + rows) * WIDTH);
      for (let at = Math.max(span.at, first * WIDTH); at < end; at++) out.set(at, { span, tint: n % 2 });
    });
    return out;
  });

  /** The fields that begin in a row, in words. */
  function namesIn(row: number): string {
    const start = row * WIDTH;
    const here = spans.filter((s) => s.at < start + WIDTH && s.at + s.length > start);
    const fresh = here.filter((s) => s.at >= start);
    return (fresh.length ? fresh : here.slice(0, 1).map((s) => ({ ...s, field: `… ${s.field}` })))
      .map((s) => s.field)
      .join(", ");
  }

  function move(to: number) {
    cursor = Math.max(0, Math.min(size - 1, to));
    const row = Math.floor(cursor / WIDTH);
    if (row < first) first = row;
    else if (row >= first + rows) first = Math.min(highest, row - rows + 1);
  }

  function onkeydown(e: KeyboardEvent) {
    const moves: Record<string, number> = {
      ArrowLeft: cursor - 1,
      ArrowRight: cursor + 1,
      ArrowUp: cursor - WIDTH,
      ArrowDown: cursor + WIDTH,
      PageUp: cursor - rows * WIDTH,
      PageDown: cursor + rows * WIDTH,
      Home: e.ctrlKey ? 0 : cursor - (cursor % WIDTH),
      End: e.ctrlKey ? size - 1 : cursor - (cursor % WIDTH) + WIDTH - 1,
    };
    if (!(e.key in moves)) return;
    move(moves[e.key]!);
    e.preventDefault();
    e.stopPropagation();
  }

  function onwheel(e: WheelEvent) {
    first = Math.max(0, Math.min(highest, first + Math.sign(e.deltaY) * 3));
    e.preventDefault();
  }
  const hex = (n: number, width: number) => n.toString(16).padStart(width, "0");
  const digits = $derived(size > 0xffffffff ? 10 : 8);
</script>

<div class="flex h-full min-h-0" aria-label="Bytes">
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
  <div
    class="hex num min-w-0 grow overflow-x-auto overflow-y-hidden"
    role="application"
    aria-label="Bytes of the file; arrow keys move, byte {cursor} chosen"
    tabindex="0"
    bind:clientHeight={height}
    {onkeydown}
    {onwheel}
  >
    {#each { length: Math.min(rows, Math.max(0, total - first)) } as _, n (n)}
      {@const row = first + n}
      <div class="flex whitespace-pre" style="height: {HEIGHT}px">
        <span class="mr-2 text-quiet">{hex(row * WIDTH, digits)}</span>
        {#each { length: WIDTH } as _, i (i)}
          {@const at = row * WIDTH + i}
          {@const value = at < size ? byteAt(at) : undefined}
          {@const found = spanOf.get(at)}
          <!-- svelte-ignore a11y_click_events_have_key_events -->
          <!-- svelte-ignore a11y_no_static_element_interactions -->
          <span
            class="cell {i === 8 ? 'mid' : ''} {found ? `t${found.tint}` : ''} {at === cursor ? 'here' : ''}"
            title={found ? `${found.span.region}.${found.span.field}: ${found.span.value}` : undefined}
            onclick={() => at < size && (cursor = at)}>{value === undefined ? "  " : hex(value, 2)}</span
          >
        {/each}
        <span class="ml-2">
          {#each { length: WIDTH } as _, i (i)}
            {@const at = row * WIDTH + i}
            {@const value = at < size ? byteAt(at) : undefined}
            <span class={at === cursor ? "here" : spanOf.has(at) ? `t${spanOf.get(at)!.tint}` : "text-quiet"}
              >{value === undefined
                ? " "
                : value >= 32 && value < 127
                  ? String.fromCharCode(value)
                  : "·"}</span
            >
          {/each}
        </span>
        <span class="ml-3 truncate text-info max-xl:hidden">{namesIn(row)}</span>
      </div>
    {/each}
  </div>
  <input
    type="range"
    class="slide shrink-0"
    aria-label="Place in the file"
    min="0"
    max={highest}
    value={first}
    oninput={(e) => (first = Number(e.currentTarget.value))}
  />
</div>

<style>
  .hex {
    font-size: 12.5px;
    line-height: 20px;
    outline-offset: -2px;
    padding: 0 4px;
  }
  .cell {
    cursor: pointer;
    padding: 0 3px;
  }
  .mid {
    margin-left: 8px;
  }
  .t0 {
    background: color-mix(in oklab, var(--color-info) 22%, transparent);
  }
  .t1 {
    background: color-mix(in oklab, var(--color-primary) 24%, transparent);
  }
  .here {
    background: var(--color-base-content);
    color: var(--color-base-100);
  }
  .slide {
    writing-mode: vertical-lr;
    width: 18px;
    accent-color: var(--color-primary);
  }
</style>
