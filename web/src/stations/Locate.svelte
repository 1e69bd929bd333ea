<script lang="ts">
  import { tick, untrack } from "svelte";
  import Comb from "../components/Comb.svelte";
  import LengthBrush from "../components/LengthBrush.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import SoundsOut from "../components/SoundsOut.svelte";
  import StreamPanel from "../components/StreamPanel.svelte";
  import { api, asProblem, every, got, type Holder, type Lengths, type Stream, type Swap } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, clock, duration, megabytes, spaced } from "../lib/format";
  import { itemOf } from "../lib/items";
  import { newest } from "../lib/newest";
  import { asked, EVERYTHING, fromSearch, narrows, toSearch, type Query } from "../lib/query";
  import { player } from "../lib/player.svelte";
  import { StreamList } from "../lib/streams.svelte";

  const ROW = 33;
  const MOST_CHIPS = 6;
  const MOST_LISTED = 500;
  const AHEAD = 2; // rows below the chosen one that are made ready to be heard
  // What the address asks for is listed; else what was listed before one went to another screen.
  const before = app.search ? fromSearch(app.search) : app.query;
  let q = $state(before.q);
  let archive = $state(before.archive);
  let language = $state(before.language);
  let kind = $state(before.kind);
  let loop = $state(before.loop);
  let marked = $state(before.marked);
  let range = $state<[number | null, number | null]>([before.shortest, before.longest]);
  let sort = $state(before.sort);
  let inRow = $state(false);
  let answered = $state(""); // the question to which the list is the answer
  let moves = 0; // rows that were selected by hand: an answer that comes late does not undo that
  let takingOut = $state(false);
  let selected = $state(-1);
  let chosen = $state<Stream | null>(null);
  let scrollTop = $state(0);
  let height = $state(400);
  let body = $state<HTMLElement>();
  let grid = $state<HTMLElement>();
  let holders = $state<Holder[]>([]);
  let held = $state(0);
  let languages = $state<string[]>([]);
  let lengths = $state<Lengths | null>(null);
  let swaps = $state<Swap[]>([]);

  const game_id = app.gameId;
  const query = $derived<Query>({
    q,
    archive,
    language,
    kind,
    loop,
    marked,
    shortest: range[0],
    longest: range[1],
    sort,
  });
  const asks = $derived(JSON.stringify(query));
  const list = new StreamList(game_id, EVERYTHING);
  const first = $derived(Math.max(0, Math.floor(scrollTop / ROW) - 6));
  const last = $derived(Math.min(list.total - 1, Math.ceil((scrollTop + height) / ROW) + 6));
  const swapOf = $derived(new Map(swaps.map((s) => [s.place, s])));
  const filtered = $derived(narrows(query));

  const asking = newest();
  const measuring = newest();

  /** What the screen needs beside the list; only a job's end changes it. */
  async function load() {
    const current = asking();
    const path = { game_id };
    try {
      const found = await Promise.all([
        got(api.GET("/api/games/{game_id}/holders", { params: { path, query: { limit: MOST_LISTED } } })),
        got(api.GET("/api/games/{game_id}/languages", { params: { path } })),
        every((query) =>
          got(api.GET("/api/mods/{mod_id}/swaps", { params: { path: { mod_id: app.game!.mod_id }, query } })),
        ),
      ]);
      if (!current()) return;
      [{ rows: holders, total: held }, languages, swaps] = found;
    } catch (error) {
      app.problem = asProblem(error);
    }
  }
  $effect(() => {
    void app.finished;
    untrack(() => void load());
  });

  /** The lengths of what is listed; what their own brush leaves out is counted, too. */
  async function measure(wanted: Query) {
    const current = measuring();
    try {
      const query = asked({ ...wanted, shortest: null, longest: null });
      const counted = await got(
        api.GET("/api/games/{game_id}/lengths", { params: { path: { game_id }, query } }),
      );
      if (current()) lengths = counted;
    } catch (error) {
      app.problem = asProblem(error);
    }
  }

  // A new question waits for a pause in typing; what was found stays on screen until then.
  $effect(() => {
    const [wanted, asking] = [query, asks];
    app.query = wanted;
    void app.finished;
    const timer = setTimeout(
      () =>
        untrack(async () => {
          void measure(wanted);
          const since = moves;
          if (!(await list.ask(wanted))) return;
          const isFirst = answered === "";
          // A job that ended may have changed what is listed; who listens keeps the place.
          if (body && asking !== answered) body.scrollTop = 0;
          answered = asking;
          await stand((await openDetail()) || isFirst, since);
        }),
      120,
    );
    return () => clearTimeout(timer);
  });

  $effect(() => list.show(first, last));

  // The address follows what is listed and chosen, and the screen an address that somebody else has set. One that asks for
  // nothing leads to the station as it is.
  $effect(() => {
    const [search, id] = [toSearch(query), chosen?.id];
    untrack(() => (id || !app.detail) && app.put(id ? String(id) : "", search));
  });
  $effect(() => {
    const wanted = app.search;
    untrack(() => {
      const here = toSearch(query);
      if (!wanted) app.put(app.detail, here);
      else if (wanted !== here) {
        const { shortest, longest, ...rest } = fromSearch(wanted);
        ({ q, archive, language, kind, loop, marked, sort } = rest);
        range = [shortest, longest];
      }
    });
  });

  $effect(() => {
    void app.detail;
    untrack(async () => {
      if ((await openDetail()) && answered) await stand(true);
    });
  });

  /** Choose the stream that the address names; whether it was another one. */
  async function openDetail(): Promise<boolean> {
    const id = Number(app.detail);
    if (!id || chosen?.id === id) return false;
    const stream = await app.attempt(
      api.GET("/api/streams/{stream_id}", { params: { path: { stream_id: id } } }),
    );
    if (stream) choose(stream);
    return !!stream;
  }

  /** Find the chosen stream in the list again, unless somebody has moved on or asked anew since. */
  async function stand(show: boolean, since = moves) {
    const answer = answered;
    const place = chosen ? await list.placeOf(chosen.id) : -1;
    if (moves === since && answer === answered) selected = place;
    await tick(); // until the list is as high as its rows
    if (show && selected >= 0) reveal(selected);
    // Who comes back to a stream goes on from it by keyboard.
    if (chosen && document.activeElement === document.body) grid?.focus();
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
    moves++;
    selected = i;
    reveal(i);
    const stream = await list.need(i);
    if (!stream || selected !== i) return;
    choose(stream);
    if (play) void player.start(0);
    for (const n of [...Array(AHEAD).keys()]) {
      const next = list.at(i + 1 + n);
      if (next) player.prepare(itemOf(next).original!);
    }
  }

  // All in a row: each is played once, and the next one follows.
  $effect(() => {
    if (!inRow) return;
    untrack(() => {
      player.looping = false;
      if (selected < 0) void select(0, true);
      else if (!player.playing) void player.start(0);
    });
    player.ended = () => {
      if (selected + 1 < list.total) void select(selected + 1, true);
      else inRow = false;
    };
    return () => {
      player.ended = null;
      player.looping = true;
    };
  });

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
    else if (e.key.toLowerCase() === "e" && chosen) app.go("stream", `s${chosen.id}`);
    else return;
    e.preventDefault();
  }

  /** To the next stream, to name it, too. */
  async function next(field: () => HTMLInputElement) {
    await select(selected + 1, true);
    await tick();
    field().focus();
    field().select();
  }

  async function mark(stream: Stream) {
    await give(stream, { marked: !stream.marked });
  }

  async function give(
    stream: Stream,
    what: { name?: string; marked?: boolean; kind?: string; notes?: string },
  ) {
    const changed = await app.attempt(
      api.PATCH("/api/streams/{stream_id}", { params: { path: { stream_id: stream.id } }, body: what }),
    );
    if (!changed) return;
    list.replace(changed, (s) => s.id === changed.id);
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

  const KINDS = ["music", "voice", "effect"];
  const COLUMNS = [
    { key: "name", label: "name", side: "left" },
    { key: "id", label: "id", side: "right" },
    { key: "bank", label: "bank", side: "left" },
    { key: "archive", label: "archive", side: "left" },
    { key: "length", label: "length", side: "right" },
    { key: "rate", label: "rate, Hz", side: "right" },
    { key: "channels", label: "ch", side: "right" },
    { key: "kind", label: "kind", side: "left" },
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
        {#if held}
          <div role="group" aria-label="Where">
            <p class="text-quiet">Where</p>
            <div class="mt-1 flex flex-wrap gap-1.5">
              {#if held > MOST_CHIPS}
                <select class="select select-sm w-64" aria-label="Archive" bind:value={archive}>
                  <option value={0}>all archives</option>
                  {#each holders as r (r.path)}<option value={r.archive_id}>{r.path}</option>{/each}
                  {#if held > holders.length}
                    <option disabled>{spaced(held - holders.length)} more: type part of their path</option>
                  {/if}
                </select>
              {:else}
                {@render chip("all archives", archive === 0, () => (archive = 0))}
                {#each holders as r (r.path)}
                  {@render chip(
                    r.path.split(/\/| › /).at(-1) ?? r.path,
                    archive === r.archive_id,
                    () => (archive = r.archive_id),
                  )}
                {/each}
              {/if}
            </div>
          </div>
        {/if}
      </div>
    </div>
    <div class="mt-2 flex flex-wrap items-center gap-x-5 gap-y-1.5">
      {#if languages.length}
        <div role="group" aria-label="Language" class="flex flex-wrap gap-1.5">
          {@render chip("any language", language === "", () => (language = ""))}
          {#each languages as name (name)}
            {@render chip(name, language === name, () => (language = name))}
          {/each}
        </div>
      {/if}
      <div role="group" aria-label="Kind" class="flex flex-wrap gap-1.5">
        {#each KINDS as name (name)}
          {@render chip(name, kind === name, () => (kind = kind === name ? "" : name))}
        {/each}
      </div>
      <div role="group" aria-label="Loop and mark" class="flex flex-wrap gap-1.5">
        {@render chip("loops", loop === "yes", () => (loop = loop === "yes" ? "" : "yes"))}
        {@render chip("plays once", loop === "no", () => (loop = loop === "no" ? "" : "no"))}
        {@render chip("◆ marked", marked, () => (marked = !marked))}
      </div>
    </div>
    <div class="flex items-center gap-3 pt-2 pb-2">
      <p class="min-w-0 grow">
        <strong class="num text-base">{spaced(list.total)}</strong>
        <span class="text-quiet">
          {list.total === 1 ? "stream" : "streams"} · {duration(list.seconds)} · {bytes(list.bytes)}
          <span class="max-md:hidden"
            >· <kbd class="kbd kbd-sm">↑</kbd> <kbd class="kbd kbd-sm">↓</kbd> listen ·
            <kbd class="kbd kbd-sm">M</kbd>
            mark · <kbd class="kbd kbd-sm">E</kbd> look closer · <kbd class="kbd kbd-sm">Enter</kbd> swap</span
          >
        </span>
      </p>
      <button class="btn btn-sm" aria-pressed={inRow} disabled={!list.total} onclick={() => (inRow = !inRow)}
        >{inRow ? "Stop after this one" : "Play all in a row"}</button
      >
      <button class="btn btn-sm" disabled={!list.total} onclick={() => (takingOut = true)}>Take out …</button>
    </div>
    {#if list.problem}<ProblemPanel problem={list.problem} />{/if}
    <div
      bind:this={grid}
      role="grid"
      aria-label="Streams"
      aria-busy={asks !== answered}
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
                <span role="gridcell" class="cell-shape"><Comb audio={s.audio} width={68} bins={30} /></span>
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
                <span
                  role="gridcell"
                  class={s.kind_given ? "" : "text-quiet"}
                  title={s.kind_given ? "your choice" : "a guess"}>{s.kind}</span
                >
                <span role="gridcell" title={s.codec}>{s.codec}</span>
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
    <StreamPanel stream={chosen} swap={swapOf.get(chosen.place)} {give} {next} />
  {:else}
    <aside class="w-[285px] shrink-0 border-l border-line bg-base-200 p-4 text-quiet max-lg:hidden">
      Choose a stream to see its format and its place. The arrow keys play one after the other.
    </aside>
  {/if}
</div>

{#if takingOut}<SoundsOut {chosen} close={() => (takingOut = false)} />{/if}

<style>
  .line {
    display: grid;
    grid-template-columns:
      16px 68px minmax(96px, 1.1fr) 40px minmax(70px, 0.8fr) minmax(60px, 0.6fr) 72px 52px 20px 42px
      minmax(104px, 0.9fr) 94px 48px;
    column-gap: 10px;
    align-items: center;
    height: 33px;
    min-width: 890px;
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
