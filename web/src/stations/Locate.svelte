<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { tick, untrack } from "svelte";
  import Comb from "../components/Comb.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import SoundsOut from "../components/SoundsOut.svelte";
  import StreamPanel from "../components/StreamPanel.svelte";
  import { api, every, got, type Stream } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { cache, ofGame } from "../lib/cache";
  import { Columns } from "../lib/columns.svelte";
  import { bytes, clock, duration, megabytes, spaced } from "../lib/format";
  import { itemOf, loopText } from "../lib/items";
  import { EVERYTHING, fromSearch, narrows, toSearch, type Query } from "../lib/query";
  import { player } from "../lib/player.svelte";
  import { StreamRows } from "../lib/streams.svelte";
  import ColumnsMenu from "../list/ColumnsMenu.svelte";
  import List from "../list/List.svelte";
  import Chosen from "../locate/Chosen.svelte";
  import Filters from "../locate/Filters.svelte";

  const AHEAD = 2; // rows below the current one that are made ready to be heard
  const game_id = app.gameId;
  const mod_id = app.game!.mod_id;

  // What the address asks for is listed; else what was listed before one went to another screen.
  let query = $state<Query>(app.search ? fromSearch(app.search) : app.query);
  const asks = $derived(JSON.stringify(query));
  let answered = $state(""); // the question to which the list is the answer
  let settled = $state.raw<Query>(EVERYTHING);
  let moves = 0; // rows that were selected by hand: an answer that comes late does not undo that

  const rows = new StreamRows(game_id, EVERYTHING);
  let list = $state<ReturnType<typeof List<Stream>>>();
  let at = $state(-1);
  let chosen = $state.raw<ReadonlySet<number>>(new Set());
  let current = $state.raw<Stream | null>(null);
  let inRow = $state(false);
  let takingOut = $state(false);

  const swaps = createQuery(() => ({
    queryKey: ofGame(game_id, "swaps"),
    queryFn: () =>
      every((query) => got(api.GET("/api/mods/{mod_id}/swaps", { params: { path: { mod_id }, query } }))),
  }));
  const swapOf = $derived(new Map(swaps.data?.map((s) => [s.place, s])));

  // A new question waits for a pause in typing; what was found stays on screen until then.
  $effect(() => {
    const [wanted, text] = [$state.snapshot(query), asks];
    app.query = wanted;
    const timer = setTimeout(
      () =>
        untrack(async () => {
          const since = moves;
          if (!(await rows.ask(wanted))) return;
          const isFirst = answered === "";
          if (text !== answered) list?.toTop();
          answered = text;
          settled = wanted;
          await stand((await openDetail()) || isFirst, since);
        }),
      answered ? 120 : 0,
    );
    return () => clearTimeout(timer);
  });
  // What a job or another window has changed may have moved the current one.
  $effect(() => {
    void rows.head;
    untrack(() => answered && void stand(false));
  });

  // The address follows what is listed and chosen, and the screen an address that somebody else has set. One that asks for
  // nothing leads to the station as it is.
  $effect(() => {
    const [search, id] = [toSearch(query), current?.id];
    untrack(() => (id || !app.detail) && app.put(id ? String(id) : "", search));
  });
  $effect(() => {
    const wanted = app.search;
    untrack(() => {
      const here = toSearch(query);
      if (!wanted) app.put(app.detail, here);
      else if (wanted !== here) query = fromSearch(wanted);
    });
  });
  $effect(() => {
    void app.detail;
    untrack(async () => {
      if ((await openDetail()) && answered) await stand(true);
    });
  });

  /** Make the stream that the address names the current one; whether it was another one. */
  async function openDetail(): Promise<boolean> {
    const id = Number(app.detail);
    if (!id || current?.id === id) return false;
    const stream = await app.attempt(
      api.GET("/api/streams/{stream_id}", { params: { path: { stream_id: id } } }),
    );
    if (!stream) return false;
    load(stream);
    chosen = new Set([stream.id]);
    return true;
  }

  /** Find the current stream in the list again, unless somebody has moved on or asked anew since. */
  async function stand(show: boolean, since = moves) {
    const answer = answered;
    const place = current ? await rows.placeOf(current.id) : -1;
    if (moves === since && answer === answered) at = place;
    await tick(); // until the list is as high as its rows
    if (show) list?.reveal(at);
    // Who comes back to a stream goes on from it by keyboard.
    if (current && document.activeElement === document.body) list?.focus();
  }

  function load(stream: Stream) {
    current = stream;
    player.load(itemOf(stream, swapOf.get(stream.place)));
  }

  function pick(stream: Stream, index: number) {
    moves++;
    load(stream);
    void player.start(0);
    for (let n = 1; n <= AHEAD; n++) {
      const next = rows.at(index + n);
      if (next) player.prepare(itemOf(next).original!);
    }
  }

  // All in a row: each is played once, and the next one follows.
  $effect(() => {
    if (!inRow) return;
    untrack(() => {
      player.looping = false;
      if (at < 0) void list?.go(0);
      else if (!player.playing) void player.start(0);
    });
    player.ended = () => {
      if (at + 1 < rows.total) void list?.go(at + 1);
      else inRow = false;
    };
    return () => {
      player.ended = null;
      player.looping = true;
    };
  });

  function key(e: KeyboardEvent): boolean {
    if (!current) return false;
    if (e.key.toLowerCase() === "m") void give(current, { marked: !current.marked });
    else if (e.key.toLowerCase() === "e") app.go("stream", `s${current.id}`);
    else return false;
    return true;
  }

  /** To the next stream, to name it, too. */
  async function next(field: () => HTMLInputElement) {
    await list?.go(at + 1);
    await tick();
    field().focus();
    field().select();
  }

  async function give(stream: Stream, what: { name?: string; marked?: boolean; kind?: string }) {
    const changed = await app.attempt(
      api.PATCH("/api/streams/{stream_id}", { params: { path: { stream_id: stream.id } }, body: what }),
    );
    if (!changed) return;
    rows.change((s) => (s.id === changed.id ? changed : s));
    if (current?.id !== changed.id) return;
    current = changed;
    player.load(itemOf(changed, swapOf.get(changed.place)), player.side);
  }

  /** Something was said of many: what is in view is asked for anew. */
  async function changed() {
    await cache.invalidateQueries({ queryKey: ofGame(game_id, "streams") });
    if (!current) return;
    const path = { stream_id: current.id };
    const now = await app.attempt(api.GET("/api/streams/{stream_id}", { params: { path } }));
    if (now && current?.id === now.id) current = now;
  }

  const columns = new Columns<Stream>("locate", () => [
    { key: "marked", label: "◆", width: 20, cell: mark, always: true },
    { key: "shape", label: "shape", width: 68, cell: shape },
    { key: "name", label: "name", sort: "name", width: 96, grow: 1.1, cell: nameCell, always: true },
    {
      key: "id",
      label: "id",
      sort: "id",
      side: "right",
      num: true,
      width: 56,
      text: (s) => s.stream_id || "–",
    },
    {
      key: "bank",
      label: "bank",
      sort: "bank",
      width: 70,
      grow: 0.8,
      text: (s) => s.bank + (swapOf.has(s.place) ? " ⇄" : ""),
      title: (s) => s.entry,
    },
    {
      key: "archive",
      label: "archive",
      sort: "archive",
      width: 60,
      grow: 0.6,
      text: (s) => s.archive.split("/").at(-1)!,
      title: (s) => s.archive,
      quiet: () => true,
    },
    {
      key: "length",
      label: "length",
      sort: "length",
      down: true,
      side: "right",
      num: true,
      width: 72,
      text: (s) => clock(s.seconds),
    },
    {
      key: "rate",
      label: "rate, Hz",
      sort: "rate",
      side: "right",
      num: true,
      width: 52,
      text: (s) => spaced(s.rate),
    },
    {
      key: "channels",
      label: "ch",
      sort: "channels",
      side: "right",
      num: true,
      width: 20,
      text: (s) => String(s.channels),
    },
    {
      key: "kind",
      label: "kind",
      sort: "kind",
      width: 42,
      text: (s) => s.kind,
      quiet: (s) => !s.kind_given,
      title: (s) => (s.kind_given ? "your choice" : "a guess"),
    },
    {
      key: "codec",
      label: "codec",
      sort: "codec",
      width: 104,
      grow: 0.9,
      text: (s) => s.codec,
      title: (s) => s.codec,
    },
    {
      key: "loop",
      label: "loop",
      sort: "loop",
      side: "right",
      num: true,
      width: 94,
      text: loopText,
      quiet: (s) => !s.loop,
    },
    {
      key: "size",
      label: "MB",
      sort: "size",
      down: true,
      side: "right",
      num: true,
      width: 48,
      text: (s) => megabytes(s.stored),
    },
    { key: "language", label: "language", width: 70, text: (s) => s.language, spare: true },
    {
      key: "folder",
      label: "folder",
      width: 90,
      grow: 0.8,
      text: (s) => s.archive.slice(0, Math.max(0, s.archive.lastIndexOf("/"))),
      title: (s) => s.archive,
      quiet: () => true,
      spare: true,
    },
    {
      key: "notes",
      label: "notes",
      width: 90,
      grow: 0.8,
      text: (s) => s.notes,
      title: (s) => s.notes,
      spare: true,
    },
  ]);
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
{#snippet nameCell(s: Stream)}<span class={s.name ? "font-medium" : "text-quiet italic"}
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

<div class="flex h-full max-lg:block">
  <section class="flex h-full min-w-0 grow flex-col px-4 pt-3" aria-label="Streams">
    <h1 class="sr-only">Locate</h1>
    <Filters bind:query {settled} />
    <div class="pt-1.5 pb-1.5">
      {#if chosen.size > 1}
        <Chosen
          {chosen}
          total={rows.total}
          {changed}
          takeOut={() => (takingOut = true)}
          none={() => list?.alone()}
        />
      {:else}
        <div class="flex min-h-9 items-center gap-3">
          <p class="min-w-0 grow">
            <strong class="num text-base">{spaced(rows.total)}</strong>
            <span class="text-quiet">
              {rows.total === 1 ? "stream" : "streams"} · {duration(rows.head?.seconds ?? 0)} · {bytes(
                rows.head?.bytes ?? 0,
              )}
              <span class="max-md:hidden"
                >· <kbd class="kbd kbd-sm">↑</kbd> <kbd class="kbd kbd-sm">↓</kbd> listen ·
                <kbd class="kbd kbd-sm">M</kbd>
                mark · <kbd class="kbd kbd-sm">E</kbd> look closer · <kbd class="kbd kbd-sm">Enter</kbd> swap</span
              >
            </span>
          </p>
          <button
            class="btn btn-sm"
            aria-pressed={inRow}
            disabled={!rows.total}
            onclick={() => (inRow = !inRow)}>{inRow ? "Stop after this one" : "Play all in a row"}</button
          >
          <ColumnsMenu {columns} />
          <button class="btn btn-sm" disabled={!rows.total} onclick={() => (takingOut = true)}
            >Take out …</button
          >
        </div>
      {/if}
    </div>
    {#if rows.problem}<ProblemPanel problem={rows.problem} />{/if}
    <List
      bind:this={list}
      label="Streams"
      {rows}
      {columns}
      id={(s) => s.id}
      numbers={(first, last) => rows.numbers(first, last)}
      jump={(text, from) => rows.jump(text, from)}
      bind:at
      bind:chosen
      bind:sort={query.sort}
      busy={asks !== answered}
      {pick}
      {key}
      reserved="emos"
      {narrow}
      open={(s) => app.go("swap", `s${s.id}`)}
    >
      {#snippet empty()}
        {narrows(query)
          ? "No stream matches. Take a filter away, or search for part of a bank's name."
          : "No streams were found. Look at Survey to see which files were recognised."}
      {/snippet}
    </List>
  </section>
  {#if current}
    <StreamPanel stream={current} swap={swapOf.get(current.place)} {give} {next} />
  {:else}
    <aside class="w-[285px] shrink-0 border-l border-line bg-base-200 p-4 text-quiet max-lg:hidden">
      Choose a stream to see its format and its place. The arrow keys play one after the other.
    </aside>
  {/if}
</div>

{#if takingOut}
  <SoundsOut chosen={[...chosen]} one={current} close={() => (takingOut = false)} />
{/if}
