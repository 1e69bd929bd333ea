<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { tick, untrack } from "svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import SoundsOut from "../components/SoundsOut.svelte";
  import StreamPanel from "../components/StreamPanel.svelte";
  import type { Stream } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { inAddress, whenAsked } from "../lib/asking.svelte";
  import { cache, ofGame } from "../lib/cache";
  import { isFree } from "../lib/focus";
  import { itemOf } from "../lib/items";
  import { EVERYTHING, fromSearch, narrows, toSearch, type Query } from "../lib/query";
  import { player } from "../lib/player.svelte";
  import { say, streamOf, StreamRows, type Said } from "../lib/streams.svelte";
  import { Choice } from "../list/choice.svelte";
  import ColumnsMenu from "../list/ColumnsMenu.svelte";
  import Chosen from "../locate/Chosen.svelte";
  import { streamColumns } from "../locate/columns.svelte";
  import Found from "../locate/Found.svelte";
  import { groupColumns } from "../locate/groups.svelte";
  import Groups from "../locate/Groups.svelte";
  import Filters from "../locate/Filters.svelte";
  import Places from "../locate/Places.svelte";
  import { tellSaid } from "../locate/said";
  import Searches from "../locate/Searches.svelte";
  import StreamList from "../locate/StreamList.svelte";
  import Titles from "../locate/Titles.svelte";
  import { swapsOf } from "../swap/swaps";

  const AHEAD = 2; // rows below the current one that are made ready to be heard
  const game_id = app.gameId;

  // What the address asks for is listed; else what was listed before one went to another screen.
  let query = $state<Query>(app.search ? fromSearch(app.search) : app.query);
  const asks = $derived(JSON.stringify({ ...query, banks: false, order: "" }));
  let answered = $state(""); // the question to which the list is the answer
  let settled = $state.raw<Query>(EVERYTHING);

  const rows = new StreamRows(game_id, EVERYTHING);
  const choice = new Choice<Stream>(
    rows,
    (s) => s.id,
    (first, last) => rows.numbers(first, last),
    pick,
  );
  let list = $state<ReturnType<typeof StreamList>>();
  let current = $state.raw<Stream | null>(null);
  let tree = $state(localStorage.getItem("zubret places") === "open");
  $effect(() => localStorage.setItem("zubret places", tree ? "open" : "closed"));
  let inRow = $state(false);
  let takingOut = $state(false);
  let titling = $state(false);

  const swaps = createQuery(() => swapsOf(game_id, app.game!.mod_id));
  const swapOf = $derived(new Map(swaps.data?.filter((s) => s.chosen).map((s) => [s.place, s])));

  $effect(() => {
    app.query = $state.snapshot(query);
  });
  whenAsked(
    () => asks,
    async (asked) => {
      const moved = choice.since();
      const wanted: Query = JSON.parse(asked);
      if (!(await rows.ask(wanted))) return;
      const isFirst = answered === "";
      if (asked !== answered) list?.toTop();
      answered = asked;
      settled = wanted;
      await stand((await openDetail()) || isFirst, moved);
    },
  );
  // What a job or another window has changed may have moved the current one, or say something else of it.
  $effect(() => {
    void rows.head;
    untrack(() => answered && void stand(false));
  });
  $effect(() => {
    const now = rows.at(choice.at);
    untrack(() => {
      if (now && now.id === current?.id) current = now;
    });
  });

  inAddress(
    () => toSearch(query),
    (search) => (query = fromSearch(search)),
    () => (current ? String(current.id) : app.detail ? null : ""),
  );
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
    const stream = await app.attempted(cache.fetchQuery(streamOf(game_id, id)));
    if (!stream) return false;
    load(stream);
    choice.only(stream.id);
    return true;
  }

  /** Find the current stream in the list again, unless somebody has moved on or asked anew since. */
  async function stand(show: boolean, moved = choice.since()) {
    const answer = answered;
    const place = current ? await rows.placeOf(current.id) : -1;
    if (!moved() && answer === answered) choice.at = place;
    await tick(); // until the list is as high as its rows
    if (show) choice.reveal(choice.at);
    // Who comes back to a stream goes on from it by keyboard.
    if (current && isFree()) list?.focus();
  }

  function load(stream: Stream) {
    current = stream;
    player.load(itemOf(stream, swapOf.get(stream.place)));
  }

  function pick(stream: Stream, index: number) {
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
      if (choice.at < 0) void choice.go(0);
      else if (!player.playing) void player.start(0);
    });
    player.ended = () => {
      if (choice.at + 1 < rows.total) void choice.go(choice.at + 1);
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
    await choice.go(choice.at + 1);
    await tick();
    field().focus();
    field().select();
  }

  async function give(stream: Stream, what: Said) {
    const changed = await app.attempted(say(game_id, stream.id, what));
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
    const { id } = current;
    const now = await app.attempted(cache.fetchQuery(streamOf(game_id, id)));
    if (now && current?.id === now.id) current = now;
  }

  let groups = $state(0);
  let bankList = $state<ReturnType<typeof Groups>>();
  const bankColumns = groupColumns();
  const columns = streamColumns((s) => swapOf.has(s.place));
</script>

<div class="flex h-full max-lg:flex-col">
  {#if tree}
    <nav
      aria-label="Places"
      class="w-56 shrink-0 overflow-auto border-r border-line bg-base-200 p-2 max-lg:hidden"
    >
      <Places chosen={query.within} choose={(path) => (query.within = path)} />
    </nav>
  {/if}
  <section class="flex min-h-0 min-w-0 grow flex-col px-4 pt-3 max-md:px-3" aria-label="Streams">
    <h1 class="sr-only">Locate</h1>
    <Filters bind:query {settled} bind:tree toList={() => (list ?? bankList)?.focus()} />
    <div class="pt-1.5 pb-1.5">
      {#if choice.chosen.size > 1}
        <Chosen
          chosen={choice.chosen}
          total={rows.total}
          {changed}
          takeOut={() => (takingOut = true)}
          none={() => {
            choice.alone();
            list?.focus();
          }}
        />
      {:else}
        <div class="flex min-h-9 flex-wrap items-center gap-x-3 gap-y-2">
          <Found bind:banks={query.banks} {groups} streams={rows.total} head={rows.head} />
          <button
            class="btn btn-sm max-md:order-last"
            aria-pressed={inRow}
            disabled={!rows.total}
            onclick={() => (inRow = !inRow)}>{inRow ? "Stop after this one" : "Play all in a row"}</button
          >
          <div class="flex gap-2 max-md:hidden">
            <Searches search={toSearch(query)} choose={(search) => (query = fromSearch(search))} />
            <button class="btn btn-sm" onclick={() => (titling = true)}>Titles …</button>
            <button
              class="btn btn-sm"
              onclick={() => app.go("lines", "", game_id, toSearch({ ...query, banks: false }))}
              >As lines</button
            >
            {#if query.banks}<ColumnsMenu columns={bankColumns} />{:else}<ColumnsMenu {columns} />{/if}
          </div>
          <button
            class="btn btn-sm max-md:order-last"
            disabled={!rows.total}
            onclick={() => (takingOut = true)}>Take out …</button
          >
        </div>
      {/if}
    </div>
    {#if rows.problem}<ProblemPanel problem={rows.problem} />{/if}
    {#if query.banks}
      <Groups
        bind:this={bankList}
        bind:query
        bind:total={groups}
        columns={bankColumns}
        open={(group) => {
          query.within = group.place;
          query.banks = false;
        }}
      />
    {:else}<StreamList
        bind:this={list}
        {rows}
        {columns}
        {choice}
        bind:sort={query.sort}
        busy={asks !== answered}
        narrowed={narrows(query)}
        {key}
        {give}
      />{/if}
  </section>
  {#if current}
    <StreamPanel stream={current} swap={swapOf.get(current.place)} {give} {next} />
  {:else}
    <aside class="w-[285px] shrink-0 border-l border-line bg-base-200 p-4 text-quiet max-lg:hidden">
      Choose a stream to see its format and its place. The arrow keys play one after the other.
    </aside>
  {/if}
</div>

{#if titling}
  <Titles {query} named={(made, text) => tellSaid(made, text, changed)} close={() => (titling = false)} />
{/if}
{#if takingOut}
  <SoundsOut chosen={[...choice.chosen]} one={current} close={() => (takingOut = false)} />
{/if}
