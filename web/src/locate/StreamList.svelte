<script lang="ts">
  import Comb from "../components/Comb.svelte";
  import type { Stream } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import type { Columns } from "../lib/columns.svelte";
  import { clock } from "../lib/format";
  import { loopText } from "../lib/items";
  import type { StreamRows } from "../lib/streams.svelte";
  import type { Choice } from "../list/choice.svelte";
  import List from "../list/List.svelte";
  import NoStreams from "./NoStreams.svelte";

  /** The list of streams, with its own cells. */
  let {
    rows,
    columns,
    choice,
    sort = $bindable(),
    busy,
    narrowed,
    key,
    give,
  }: {
    rows: StreamRows;
    columns: Columns<Stream>;
    choice: Choice<Stream>;
    sort: string;
    busy: boolean;
    /** Whether a filter leaves something out. */
    narrowed: boolean;
    key: (e: KeyboardEvent) => boolean;
    give: (stream: Stream, what: { marked: boolean }) => void;
  } = $props();
  let list = $state<ReturnType<typeof List<Stream>>>();

  export const focus = () => list?.focus();
  export const toTop = () => list?.toTop();
</script>

{#snippet mark(s: Stream)}
  <button
    class="text-primary"
    tabindex="-1"
    aria-label={s.marked ? "marked" : "not marked"}
    title="{s.marked ? 'Take the mark away' : 'Mark it'} (M)"
    onclick={(e) => {
      e.stopPropagation();
      void give(s, { marked: !s.marked });
    }}>{s.marked ? "◆" : "◇"}</button
  >
{/snippet}
{#snippet shape(s: Stream)}<Comb audio={s.audio} width={68} bins={30} />{/snippet}
{#snippet name(s: Stream)}<span class={s.name ? "font-medium" : "text-quiet italic"}
    >{s.name || "no name yet"}</span
  >{/snippet}
{#snippet narrow(s: Stream)}
  <div class="flex items-baseline gap-2">
    <span class="text-primary">{s.marked ? "◆" : "◇"}</span>
    <span class="min-w-0 grow truncate {s.name ? 'font-medium' : ''}"
      >{s.name || `${s.bank} ${s.stream_id}`}</span
    >
    <span class="num shrink-0">{clock(s.seconds, 1)}</span>
  </div>
  <div class="truncate pl-5 text-quiet">
    {s.name ? `${s.bank} ${s.stream_id} · ` : ""}{s.kind} · {s.codec} · {s.loop
      ? `loop ${loopText(s)}`
      : "plays once"}
  </div>
{/snippet}

<List
  bind:this={list}
  label="Streams"
  {columns}
  jump={(text, from) => rows.jump(text, from)}
  {choice}
  bind:sort
  {busy}
  {key}
  reserved="emos"
  cells={{ marked: mark, shape, name }}
  {narrow}
  open={(s) => app.go("swap", `s${s.id}`)}
>
  {#snippet empty()}
    <NoStreams {narrowed} />
  {/snippet}
</List>
