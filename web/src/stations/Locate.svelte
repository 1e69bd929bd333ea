<script lang="ts">
  import { untrack } from "svelte";
  import Comb from "../components/Comb.svelte";
  import LengthBrush from "../components/LengthBrush.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import StreamPanel from "../components/StreamPanel.svelte";
  import { api, asProblem, got, type Lengths, type Stream, type Survey, type Swap } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, clock, duration, megabytes, spaced } from "../lib/format";
  import { itemOf } from "../lib/items";
  import { player } from "../lib/player.svelte";
  import { StreamList } from "../lib/streams.svelte";

  const ROW = 33;
  const MOST_CHIPS = 6;
  let q = $state("");
  let archive = $state(0);
  let language = $state("");
  let range = $state<[number | null, number | null]>([null, null]);
  let sort = $state("archive");
  let selected = $state(-1);
  let chosen = $state<Stream | null>(null);
  let scrollTop = $state(0);
  let height = $state(400);
  let body = $state<HTMLElement>();
  let survey = $state<Survey | null>(null);
  let languages = $state<string[]>([]);
  let lengths = $state<Lengths | null>(null);
  let swaps = $state<Swap[]>([]);

  const game_id = app.gameId;
  const query = $derived({ q, archive, language, shortest: range[0], longest: range[1], sort });
  const list = new StreamList(game_id, {
    q: "",
    archive: 0,
    language: "",
    shortest: null,
    longest: null,
    sort: "",
  });
  const first = $derived(Math.max(0, Math.floor(scrollTop / ROW) - 6));
  const last = $derived(Math.min(list.total - 1, Math.ceil((scrollTop + height) / ROW) + 6));
  const holders = $derived(survey?.rows.filter((r) => r.streams) ?? []);
  const swapOf = $derived(new Map(swaps.map((s) => [s.place, s])));
  const filtered = $derived(!!(q || archive || language || range[0] !== null || range[1] !== null));

  async function load() {
    const path = { game_id };
    try {
      [survey, languages, swaps] = await Promise.all([
        got(api.GET("/api/games/{game_id}/survey", { params: { path } })).then((s) => s ?? null),
        got(api.GET("/api/games/{game_id}/languages", { params: { path } })),
        got(api.GET("/api/mods/{mod_id}/swaps", { params: { path: { mod_id: app.game!.mod_id } } })),
      ]);
      lengths = await got(
        api.GET("/api/games/{game_id}/lengths", { params: { path, query: { q, archive, language } } }),
      );
    } catch (error) {
      app.problem = asProblem(error);
    }
  }

  // A new question waits for a pause in typing; what was found stays on screen until then.
  $effect(() => {
    const wanted = query;
    void app.finished;
    const timer = setTimeout(
      () =>
        untrack(async () => {
          await Promise.all([list.ask(wanted), load()]);
          if (body) body.scrollTop = 0;
          selected = -1;
          await openDetail();
        }),
      120,
    );
    return () => clearTimeout(timer);
  });

  $effect(() => list.show(first, last));

  $effect(() => {
    void app.detail;
    untrack(openDetail);
  });

  /** The stream that the address names, wherever it stands in the list. */
  async function openDetail() {
    const id = Number(app.detail);
    if (!id || chosen?.id === id) return;
    const stream = await app.attempt(
      api.GET("/api/streams/{stream_id}", { params: { path: { stream_id: id } } }),
    );
    if (!stream) return;
    choose(stream);
    for (let i = 0; i < Math.min(list.total, 2000); i++)
      if (list.at(i)?.id === id) {
        selected = i;
        reveal(i);
      }
  }

  function choose(stream: Stream) {
    chosen = stream;
    player.load(itemOf(stream, swapOf.get(stream.place)));
  }

  function reveal(i: number) {
    if (!body) return;
    if (i * ROW < body.scrollTop) body.scrollTop = i * ROW;
    else if ((i + 1) * ROW > body.scrollTop + body.clientHeight)
      body.scrollTop = (i + 1) * ROW - body.clientHeight;
  }

  async function select(i: number, play: boolean) {
    if (i < 0 || i >= list.total) return;
    selected = i;
    reveal(i);
    const stream = await list.need(i);
    if (!stream || selected !== i) return;
    choose(stream);
    if (play) void player.start(0);
  }

  function onkeydown(e: KeyboardEvent) {
    const page = Math.max(1, Math.floor(height / ROW) - 1);
    const moves: Record<string, number> = {
      ArrowDown: selected + 1,
      ArrowUp: Math.max(0, selected - 1),
      PageDown: Math.min(list.total - 1, selected + page),
      PageUp: Math.max(0, selected - page),
      Home: 0,
      End: list.total - 1,
    };
    if (e.key in moves) void select(moves[e.key]!, true);
    else if (e.key === "Enter" && chosen) app.go("swap", `s${chosen.id}`);
    else if (e.key.toLowerCase() === "m" && chosen) void mark(chosen);
    else return;
    e.preventDefault();
  }

  async function mark(stream: Stream) {
    await give(stream, { marked: !stream.marked });
  }

  async function give(stream: Stream, what: { name?: string; marked?: boolean }) {
    const changed = await app.attempt(
      api.PATCH("/api/streams/{stream_id}", { params: { path: { stream_id: stream.id } }, body: what }),
    );
    if (!changed) return;
    list.replace(changed);
    if (chosen?.id === changed.id) {
      chosen = changed;
      player.load(itemOf(changed, swapOf.get(changed.place)), player.side);
    }
  }

  function sortBy(key: string) {
    sort =
      sort === key
        ? `-${key}`
        : sort === `-${key}`
          ? key
          : key === "length" || key === "size"
            ? `-${key}`
            : key;
  }

  const COLUMNS = [
    { key: "name", label: "name", side: "left" },
    { key: "id", label: "id", side: "right" },
    { key: "bank", label: "bank", side: "left" },
    { key: "archive", label: "archive", side: "left" },
    { key: "length", label: "length", side: "right" },
    { key: "rate", label: "rate, Hz", side: "right" },
    { key: "channels", label: "ch", side: "right" },
    { key: "codec", label: "codec", side: "left" },
    { key: "loop", label: "loop", side: "right" },
    { key: "size", label: "MB", side: "right" },
  ];

  function loopText(s: Stream): string {
    if (!s.loop) return "none";
    const [a, b] = s.loop as [number, number];
    if (a === 0 && b === s.frames) return "whole";
    return `${clock(a / s.rate, 1)} – ${b === s.frames ? "end" : clock(b / s.rate, 1)}`;
  }
</script>

{#snippet chip(text: string, on: boolean, act: () => void)}
  <button
    class="rounded-full border px-3 py-0.5 {on
      ? 'border-primary bg-base-300'
      : 'border-line text-quiet hover:border-edge'}"
    aria-pressed={on}
    onclick={act}>{text}</button
  >
{/snippet}

<div class="flex h-full max-lg:block">
  <section class="flex h-full min-w-0 grow flex-col px-4 pt-3" aria-label="Streams">
    <h1 class="sr-only">Locate</h1>
    <div class="flex flex-wrap items-start gap-x-6 gap-y-2">
      <label class="block w-48">
        <span class="text-quiet">Name, id, bank, path</span>
        <input class="input mt-1 w-full font-mono" type="search" bind:value={q} />
      </label>
      {#if lengths}<LengthBrush {lengths} bind:range />{/if}
      <div class="min-w-0 flex-1 basis-72 space-y-1.5">
        {#if survey}
          <div role="group" aria-label="Where">
            <p class="text-quiet">Where</p>
            <div class="mt-1 flex flex-wrap gap-1.5">
              {#if holders.length > MOST_CHIPS}
                <select class="select select-sm w-64" aria-label="Archive" bind:value={archive}>
                  <option value={0}>all archives</option>
                  {#each holders as r (r.path)}<option value={r.archive_id}>{r.path}</option>{/each}
                </select>
              {:else}
                {@render chip("all archives", archive === 0, () => (archive = 0))}
                {#each holders as r (r.path)}
                  {@render chip(
                    r.path.split(/\/| › /).at(-1) ?? r.path,
                    archive === r.archive_id,
                    () => (archive = r.archive_id ?? 0),
                  )}
                {/each}
              {/if}
            </div>
          </div>
        {/if}
        {#if languages.length}
          <div role="group" aria-label="Language" class="flex flex-wrap gap-1.5">
            {@render chip("any language", language === "", () => (language = ""))}
            {#each languages as name (name)}
              {@render chip(name, language === name, () => (language = name))}
            {/each}
          </div>
        {/if}
      </div>
    </div>
    <p class="pt-2 pb-2">
      <strong class="num text-base">{spaced(list.total)}</strong>
      <span class="text-quiet">
        {list.total === 1 ? "stream" : "streams"} · {duration(list.seconds)} · {bytes(list.bytes)}
        <span class="max-md:hidden"
          >· <kbd class="kbd kbd-sm">↑</kbd> <kbd class="kbd kbd-sm">↓</kbd> listen ·
          <kbd class="kbd kbd-sm">M</kbd>
          mark · <kbd class="kbd kbd-sm">Enter</kbd> swap</span
        >
      </span>
    </p>
    {#if list.problem}<ProblemPanel problem={list.problem} />{/if}
    <div
      role="grid"
      aria-label="Streams"
      aria-rowcount={list.total + 1}
      aria-activedescendant={selected >= 0 ? `row-${selected}` : undefined}
      tabindex="0"
      class="grid-table flex min-h-64 grow flex-col overflow-x-auto"
      {onkeydown}
    >
      <div role="row" class="line head text-quiet" aria-rowindex="1">
        <span role="columnheader"><span class="sr-only">marked</span></span>
        <span role="columnheader" class="cell-shape">shape</span>
        {#each COLUMNS as c (c.key)}
          {@const on = sort === c.key || sort === `-${c.key}`}
          <span
            role="columnheader"
            aria-sort={on ? (sort.startsWith("-") ? "descending" : "ascending") : "none"}
            class={c.side === "right" ? "text-right" : ""}
          >
            <button
              class={on ? "font-semibold text-base-content" : ""}
              tabindex="-1"
              onclick={() => sortBy(c.key)}>{c.label}{on ? (sort.startsWith("-") ? " ↓" : " ↑") : ""}</button
            >
          </span>
        {/each}
      </div>
      <div
        role="presentation"
        class="min-h-0 min-w-fit grow overflow-x-hidden overflow-y-auto"
        bind:this={body}
        bind:clientHeight={height}
        onscroll={(e) => (scrollTop = e.currentTarget.scrollTop)}
      >
        <div role="presentation" class="relative" style="height: {list.total * ROW}px">
          {#each { length: Math.max(0, last - first + 1) } as _, n (first + n)}
            {@const i = first + n}
            {@const s = list.at(i)}
            <!-- svelte-ignore a11y_click_events_have_key_events -->
            <div
              role="row"
              tabindex="-1"
              id="row-{i}"
              aria-rowindex={i + 2}
              aria-selected={i === selected}
              class="line absolute inset-x-0 {i === selected ? 'chosen' : ''}"
              style="top: {i * ROW}px"
              onclick={() => select(i, true)}
              ondblclick={() => chosen && app.go("swap", `s${chosen.id}`)}
            >
              {#if s}
                <span
                  role="gridcell"
                  class="text-center text-primary"
                  title={s.marked ? "marked" : "not marked"}
                  >{s.marked ? "◆" : "◇"}<span class="sr-only">{s.marked ? "marked" : ""}</span></span
                >
                <span role="gridcell" class="cell-shape"><Comb audio={s.audio} width={84} /></span>
                <span role="gridcell" class={s.name ? "font-medium" : "text-quiet italic"}
                  >{s.name || "no name yet"}</span
                >
                <span role="gridcell" class="num text-right">{s.stream_id || "–"}</span>
                <span role="gridcell" title={s.entry}>{s.bank}{swapOf.has(s.place) ? " ⇄" : ""}</span>
                <span role="gridcell" class="text-quiet" title={s.archive}>{s.archive.split("/").at(-1)}</span
                >
                <span role="gridcell" class="num text-right">{clock(s.seconds)}</span>
                <span role="gridcell" class="num text-right">{spaced(s.rate)}</span>
                <span role="gridcell" class="num text-right">{s.channels}</span>
                <span role="gridcell">{s.codec}</span>
                <span role="gridcell" class="num text-right {s.loop ? '' : 'text-quiet'}">{loopText(s)}</span>
                <span role="gridcell" class="num text-right">{megabytes(s.stored)}</span>
              {:else}<span role="gridcell" class="col-span-full text-quiet">…</span>{/if}
            </div>
          {/each}
        </div>
        {#if !list.loading && !list.total}
          <p class="py-6 text-quiet">
            {filtered
              ? "No stream matches. Take a filter away, or search for part of a bank's name."
              : "No streams were found. Look at Survey to see which files were recognised."}
          </p>
        {/if}
      </div>
    </div>
  </section>
  {#if chosen}
    <StreamPanel stream={chosen} swap={swapOf.get(chosen.place)} {give} />
  {:else}
    <aside class="w-[285px] shrink-0 border-l border-line bg-base-200 p-4 text-quiet max-lg:hidden">
      Choose a stream to see its format and its place. The arrow keys play one after the other.
    </aside>
  {/if}
</div>

<style>
  .line {
    display: grid;
    grid-template-columns:
      16px 84px minmax(90px, 1.2fr) 40px minmax(92px, 1fr) minmax(70px, 0.7fr) 72px 54px 20px minmax(
        88px,
        0.8fr
      )
      104px 42px;
    column-gap: 10px;
    align-items: center;
    height: 33px;
    min-width: 880px;
    border-bottom: 1px solid var(--line);
    border-left: 3px solid transparent;
    padding: 0 6px 0 4px;
  }
  .line > span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .head {
    border-top: 1px solid var(--line);
    flex-shrink: 0;
  }
  .line:not(.head):hover {
    background: var(--color-base-200);
  }
  .line.chosen {
    background: var(--color-base-300);
    border-left-color: var(--color-primary);
  }
  .grid-table:focus-visible {
    outline-offset: -2px;
    outline-width: 1px;
  }
</style>
