<script lang="ts">
  import type { Line } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import type { Columns } from "../lib/columns.svelte";
  import { clock } from "../lib/format";
  import { streamTitle } from "../lib/items";
  import type { Choice } from "../list/choice.svelte";
  import List from "../list/List.svelte";
  import { newSeconds, stateOf, type LineRows } from "./lines.svelte";

  /** The list of lines, with its own cells. */
  let {
    rows,
    columns,
    choice,
    sort = $bindable(),
    busy,
    key,
    done,
    edit,
  }: {
    rows: LineRows;
    columns: Columns<Line>;
    choice: Choice<Line>;
    sort: string;
    busy: boolean;
    key: (e: KeyboardEvent) => boolean;
    done: (line: Line) => void;
    /** To the text of the current line. */
    edit: () => void;
  } = $props();
  let list = $state<ReturnType<typeof List<Line>>>();

  export const focus = () => list?.focus();
  export const toTop = () => list?.toTop();

  const BAR = 84;
  /** The longest of what is listed first: all bars are on one scale. */
  const longest = $derived(
    Math.max(1, ...(rows.head?.rows ?? []).flatMap((l) => [l.stream.seconds, newSeconds(l) ?? 0])),
  );
  const wide = (seconds: number) => Math.min(BAR, Math.max(1, (seconds / longest) * BAR));
</script>

{#snippet tick(l: Line)}
  <button
    tabindex="-1"
    class={l.stream.done ? "text-success" : "text-quiet"}
    aria-label={l.stream.done ? "done" : "not done"}
    title="{l.stream.done ? 'Not done after all' : 'It is done'} (D)"
    onclick={(e) => {
      e.stopPropagation();
      done(l);
    }}>{l.stream.done ? "☑" : "☐"}</button
  >
{/snippet}
{#snippet text(l: Line)}
  {#if l.stream.text}<span title={l.stream.text}>{l.stream.text}</span>
  {:else}<span class="text-quiet italic">{l.stream.name || "no text yet"}</span>{/if}
{/snippet}
{#snippet length(l: Line)}
  {@const fresh = newSeconds(l)}
  <span class="flex items-center gap-2">
    <svg width={BAR} height="14" aria-hidden="true" class="shrink-0">
      <rect x="0" y="1" width={wide(l.stream.seconds)} height="5" fill="var(--bars-old)" />
      {#if fresh !== null}<rect x="0" y="8" width={wide(fresh)} height="5" fill="var(--bars-new)" />{/if}
    </svg>
    <span class="num">{l.stream.seconds.toFixed(1)}{fresh === null ? "" : ` → ${fresh.toFixed(1)}`} s</span>
  </span>
{/snippet}
{#snippet state(l: Line)}
  {@const st = stateOf(l)}
  <span class={st.tone} title={l.take?.error?.what ?? l.take?.source_name ?? ""}>{st.sign} {st.text}</span>
{/snippet}
{#snippet narrow(l: Line)}
  {@const st = stateOf(l)}
  <div class="flex items-baseline gap-2">
    <span class={l.stream.done ? "text-success" : "text-quiet"}>{l.stream.done ? "☑" : "☐"}</span>
    <span class="min-w-0 grow truncate {l.stream.text ? 'font-medium' : 'text-quiet italic'}"
      >{l.stream.text || "no text yet"}</span
    >
    <span class="num shrink-0">{clock(l.stream.seconds, 1)}</span>
  </div>
  <div class="truncate pl-5 text-quiet">
    {streamTitle(l.stream)} · {l.stream.language || "no language"} ·
    <span class={st.tone}>{st.sign} {st.text}</span>
  </div>
{/snippet}

<List
  bind:this={list}
  label="Lines"
  {columns}
  jump={(text, from) => rows.jump(text, from)}
  {choice}
  bind:sort
  {busy}
  {key}
  reserved="dosr"
  cells={{ done: tick, text, length, state }}
  {narrow}
  open={edit}
>
  {#snippet empty()}
    {#if app.route.find((s) => s.key === "locate")?.dot === "empty"}
      <p>This game has no streams yet: survey it first.</p>
    {:else}
      <p>No line is left by this filter.</p>
    {/if}
  {/snippet}
</List>
