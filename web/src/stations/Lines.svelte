<script lang="ts">
  import { tick, untrack } from "svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, upload, type Line, type Swap } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { inAddress, whenAsked } from "../lib/asking.svelte";
  import { clock, count } from "../lib/format";
  import { isFree } from "../lib/focus";
  import { player } from "../lib/player.svelte";
  import { EVERYTHING, fromSearch, toSearch, type Query } from "../lib/query";
  import { say, type Said } from "../lib/streams.svelte";
  import type { Found } from "../lib/folders";
  import { AS_USUAL, dropped, treat, wayOf } from "../lines/alike";
  import ChosenLines from "../lines/ChosenLines.svelte";
  import LineFilters from "../lines/LineFilters.svelte";
  import LineList from "../lines/LineList.svelte";
  import LinePanel from "../lines/LinePanel.svelte";
  import { heard, isBusy, lineColumns, LineRows, linesChanged } from "../lines/lines.svelte";
  import MatchFiles from "../lines/MatchFiles.svelte";
  import Record from "../lines/Record.svelte";
  import { forget, leftOver, wavOf, type Recording } from "../lines/recorder.svelte";
  import SendingFiles from "../lines/SendingFiles.svelte";
  import { sending } from "../lines/sending.svelte";
  import { Choice } from "../list/choice.svelte";
  import ColumnsMenu from "../list/ColumnsMenu.svelte";
  import { tellSaid } from "../locate/said";
  import Titles from "../locate/Titles.svelte";
  import NumberStep from "../swap/NumberStep.svelte";

  const game_id = app.gameId;
  const AGAIN = 1000; // ms after which lines that are worked on are looked at again
  let query = $state<Query>(fromSearch(app.search));
  const asks = $derived(JSON.stringify({ ...query, banks: false, order: "" }));
  let answered = $state("");
  const rows = new LineRows(game_id, app.game!.mod_id, EVERYTHING);
  const choice = new Choice<Line>(
    rows,
    (l) => l.stream.id,
    (first, last) => rows.numbers(first, last),
    pick,
  );
  const columns = lineColumns();
  let list = $state<ReturnType<typeof LineList>>();
  let panel = $state<ReturnType<typeof LinePanel>>();
  let current = $state.raw<Line | null>(null);
  let titling = $state(false);
  let matching = $state.raw<Found[] | null>(null);
  let recording = $state(false);
  /** Of the one file that is sent for a line. */
  let share = $state<number | null>(null);
  let inRow = $state(false);
  /** Seconds between two lines of a scene. */
  let gap = $state(Number(localStorage.getItem("zubret gap") ?? 0.4));
  $effect(() => localStorage.setItem("zubret gap", String(gap)));
  let over = $state(false);
  let left = $state.raw<Recording | null>(null);
  void leftOver().then((found) => (left = found));

  whenAsked(
    () => asks,
    async (asked) => {
      if (!(await rows.ask(JSON.parse(asked)))) return;
      const isFirst = answered === "";
      if (asked !== answered) list?.toTop();
      answered = asked;
      if (isFirst && Number(app.detail)) await toStream(Number(app.detail));
      else choice.at = current ? await rows.placeOf(current.stream.id) : -1;
      if (isFree()) list?.focus();
    },
  );
  inAddress(
    () => toSearch(query),
    (search) => (query = fromSearch(search)),
    () => (current ? String(current.stream.id) : app.detail),
  );
  // What changed in the list is said of the current line, too, and heard.
  $effect(() => {
    const now = rows.at(choice.at);
    untrack(() => {
      if (!now || now.stream.id !== current?.stream.id) return;
      current = now;
      if (player.item?.place === now.stream.place) player.load(heard(now), player.side);
    });
  });
  // While takes are made, what is in view is looked at again and again.
  const busy = $derived(
    sending.total > 0 ||
      app.openJobs.some((j) => j.kind === "prepare many" || j.kind === "prepare") ||
      (rows.head?.rows ?? []).some(isBusy),
  );
  $effect(() => {
    if (!busy) return;
    let timer = window.setTimeout(async function again() {
      await linesChanged();
      if (timer) timer = window.setTimeout(again, AGAIN); // a slow answer is waited for: asking again would cancel it
    }, AGAIN);
    return () => {
      clearTimeout(timer);
      timer = 0;
    };
  });

  async function toStream(id: number) {
    const place = await rows.placeOf(id);
    if (place < 0) return;
    await choice.go(place);
    player.stop();
  }

  function pick(line: Line) {
    current = line;
    player.load(heard(line), line.take?.new ? "new" : "original");
    if (!recording) void player.start(0);
  }

  // All in a row, as they stand now: originals, and the new ones where there are.
  $effect(() => {
    if (!inRow) return;
    untrack(() => {
      player.looping = false;
      if (choice.at < 0) void choice.go(0);
      else if (!player.playing) void player.start(0);
    });
    let pause = 0;
    player.ended = () => {
      if (choice.at + 1 >= rows.total) inRow = false;
      else pause = window.setTimeout(() => void choice.go(choice.at + 1), gap * 1000);
    };
    return () => {
      clearTimeout(pause);
      player.ended = null;
      player.looping = true;
    };
  });

  async function give(line: Line, what: Said) {
    const stream = await app.attempted(say(game_id, line.stream.id, what));
    if (!stream) return;
    rows.change((l) => (l.stream.id === stream.id ? { ...l, stream } : l));
    if (current?.stream.id === stream.id) current = { ...current, stream };
  }
  const done = (line: Line) => void give(line, { done: !line.stream.done });

  async function next(): Promise<boolean> {
    if (choice.at + 1 >= rows.total) return false;
    await choice.go(choice.at + 1);
    return true;
  }

  function key(e: KeyboardEvent): boolean {
    if (!current) return false;
    if (e.key.toLowerCase() === "d") done(current);
    else if (e.key.toLowerCase() === "r") recording = true;
    else return false;
    return true;
  }

  /** A file becomes a take of a line, fitted and as loud as the original; whether it could be sent. */
  async function send(line: Line, file: File): Promise<boolean> {
    share = 0;
    const made = await app.attempted(
      (async () => {
        const fields = { stream_id: line.stream.id, waits: "true" };
        const path = `/api/mods/${app.game!.mod_id}/swaps`;
        const { id } = await upload<Swap>(path, file, fields, (now) => (share = now));
        return treat({ swaps: [id] }, wayOf(AS_USUAL, true));
      })(),
    );
    share = null;
    return !!made;
  }

  /** What a closed tab had recorded becomes a take after all. */
  async function rescue() {
    if (!left) return;
    const line = { stream: { id: left.stream } } as Line;
    if (!(await send(line, wavOf(left)))) return;
    await forget();
    left = null;
  }
</script>

<div class="flex h-full max-lg:flex-col">
  <section
    class="flex min-h-0 min-w-0 grow flex-col px-4 pt-3 max-md:px-3 {over ? 'bg-base-200' : ''}"
    aria-label="Line board"
    ondragover={(e) => {
      e.preventDefault();
      over = true;
    }}
    ondragleave={() => (over = false)}
    ondrop={async (e) => {
      e.preventDefault();
      over = false;
      if (e.dataTransfer) matching = await dropped(e.dataTransfer);
    }}
  >
    <h1 class="sr-only">Line board</h1>
    <LineFilters bind:query toList={() => list?.focus()} />
    {#if left}
      <div
        class="mt-2 flex flex-wrap items-center gap-3 rounded-box border border-primary px-3 py-2"
        role="status"
      >
        <span class="grow">A recording of {left.title} was cut off: it is still here.</span>
        <button class="btn btn-sm btn-primary" disabled={left.game !== game_id} onclick={rescue}
          >Make a take of it</button
        >
        <button
          class="btn btn-sm"
          onclick={async () => {
            await forget();
            left = null;
          }}>Throw it away</button
        >
      </div>
    {/if}
    <SendingFiles />
    <div class="pt-1.5 pb-1.5">
      {#if choice.chosen.size > 1}
        <ChosenLines
          chosen={choice.chosen}
          total={rows.total}
          files={() => (matching = [])}
          none={() => {
            choice.alone();
            list?.focus();
          }}
        />
      {:else}
        <div class="flex min-h-9 flex-wrap items-center gap-x-3 gap-y-2">
          <p class="grow">
            <strong class="num text-base">{count(rows.total, "line")}</strong>
            {#if rows.head?.seconds}<span class="num text-quiet">{clock(rows.head.seconds, 0)}</span>{/if}
          </p>
          <button
            class="btn btn-sm"
            aria-pressed={inRow}
            disabled={!rows.total}
            title="Originals, and the new ones where there are"
            onclick={() => (inRow = !inRow)}>{inRow ? "Stop after this one" : "Play the scene"}</button
          >
          <div class="max-md:hidden">
            <NumberStep label="gap" unit="s" value={gap} from={0} to={30} by={0.1} set={(s) => (gap = s)} />
          </div>
          <div class="flex gap-2 max-md:hidden">
            <button class="btn btn-sm" onclick={() => (titling = true)}>Texts …</button>
            <a class="btn btn-sm" href="/api/games/{game_id}/script?{toSearch(query)}" download
              >Script as CSV</a
            >
            <a
              class="btn btn-sm"
              href="/api/games/{game_id}/script?{toSearch(query)}&page=true"
              target="_blank">to print</a
            >
            <ColumnsMenu {columns} />
          </div>
          <button class="btn btn-sm btn-primary" disabled={!rows.total} onclick={() => (matching = [])}
            >Files for these lines …</button
          >
        </div>
      {/if}
    </div>
    {#if rows.problem}<ProblemPanel problem={rows.problem} />{/if}
    <LineList
      bind:this={list}
      {rows}
      {columns}
      {choice}
      bind:sort={query.sort}
      busy={asks !== answered}
      {key}
      {done}
      edit={() => panel?.edit()}
    />
  </section>
  {#if current}
    <LinePanel
      bind:this={panel}
      line={current}
      sending={share}
      say={(what) => give(current!, what)}
      send={(file) => void send(current!, file)}
      record={() => (recording = true)}
      next={async () => {
        if (await next()) {
          await tick();
          panel?.edit();
        }
      }}
    />
  {:else}
    <aside class="w-[285px] shrink-0 border-l border-line bg-base-200 p-4 text-quiet max-lg:hidden">
      Choose a line to see its text and its take. The arrow keys play one after the other: the new one, where
      there is one. Drop a folder of files anywhere on the board to have them matched with the lines.
    </aside>
  {/if}
</div>

{#if titling}
  <Titles
    {query}
    named={(said, text) => tellSaid(said, text, linesChanged)}
    close={() => (titling = false)}
  />
{/if}
{#if matching}
  <MatchFiles
    files={matching}
    streams={async () => {
      const all = await rows.numbers(0);
      return choice.chosen.size > 1 ? all.filter((id) => choice.chosen.has(id)) : all;
    }}
    of={choice.chosen.size > 1
      ? `the ${count(choice.chosen.size, "chosen line")}`
      : `these ${count(rows.total, "line")}`}
    close={() => (matching = null)}
  />
{/if}
{#if recording && current}
  <Record
    line={current}
    keep={send}
    {next}
    close={() => {
      recording = false;
      player.stop();
      void leftOver().then((found) => (left = found)); // what is neither kept nor passed over
    }}
  />
{/if}
