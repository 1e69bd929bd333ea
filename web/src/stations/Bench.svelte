<script lang="ts">
  import { untrack } from "svelte";
  import { Draft } from "../bench/draft.svelte";
  import FileSide from "../bench/FileSide.svelte";
  import OfGame from "../bench/OfGame.svelte";
  import Begin from "../bench/Begin.svelte";
  import LayoutBar from "../bench/LayoutBar.svelte";
  import { fromSearch, toSearch } from "../bench/tabs";
  import TextSide from "../bench/TextSide.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, got, type FieldSpan, type Tried } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { inAddress, whenAsked } from "../lib/asking.svelte";
  import { newest } from "../lib/newest";
  import { wordsOf, type Word } from "../lib/words";

  /** The layout bench: a layout's text on one side, a file's bytes on the other, and what the one says of the other. */
  const LOOKED = 2048; // bytes around those on screen of which fields are asked for
  const game_id = app.gameId;
  const path = app.detail;
  const begun = fromSearch(app.search);
  const params = { path: { game_id } };

  const draft = new Draft(game_id, path);
  let beginning = $state(false);
  let size = $state(0);
  let entropy = $state<number[]>([]);
  let files = $state<string[]>([]);
  let words = $state<Word[]>([]);
  let tried = $state<Tried | null>(null);
  let reads = $state("");
  let spans = $state<FieldSpan[]>([]);
  let cursor = $state(begun.at ?? 0);
  let first = $state(rowOf(begun.at ?? 0));
  let tab = $state(begun.tab);
  let checkStarted = $state(0);
  const job = $derived(app.jobs.find((j) => j.id === checkStarted));

  void draft.attempt(async () => {
    const look = await got(
      api.GET("/api/games/{game_id}/bench/look", { params: { ...params, query: { path } } }),
    );
    size = look.size;
    entropy = look.entropy;
    goTo(cursor);
    words = wordsOf((await got(api.GET("/api/layouts/schema"))) as never);
    const listed = await got(
      api.GET("/api/games/{game_id}/files", { params: { ...params, query: { limit: 500 } } }),
    );
    files = listed.rows.filter((r) => !r.inside).map((r) => r.path);
    await draft.begin(begun.layout, look.layout);
  });

  // The address follows the cursor once it rests.
  let rested = $state<number | null>(begun.at);
  whenAsked(
    () => String(cursor),
    (at) => (rested = Number(at) || null),
  );
  inAddress(
    () => toSearch({ at: rested, tab, layout: draft.name || begun.layout }),
    (search) => {
      const wanted = fromSearch(search);
      tab = wanted.tab;
      if (wanted.at !== rested) goTo(wanted.at ?? 0);
    },
    () => path,
  );

  // The view follows the text within a moment.
  whenAsked(
    () => draft.text,
    (text) => {
      if (!text) [tried, reads] = [null, ""];
      else void draft.attempt(() => tryIt(text));
    },
  );

  async function tryIt(text: string) {
    const body = { path, text, at: 0, length: 0 };
    const out = await got(api.POST("/api/games/{game_id}/bench/try", { params, body }));
    if (draft.text !== text) return;
    tried = out;
    reads = out.fault || out.problem || out.game ? "" : text;
    void askSpans();
  }

  const asking = newest();

  async function askSpans() {
    const current = asking();
    if (!reads) {
      spans = [];
      return;
    }
    const body = { path, text: reads, at: Math.max(0, first * 16), length: LOOKED };
    try {
      const found = await got(api.POST("/api/games/{game_id}/bench/spans", { params, body }));
      if (current()) spans = found;
    } catch {
      if (current()) spans = [];
    }
  }
  $effect(() => {
    void first;
    const timer = setTimeout(() => untrack(askSpans), 60);
    return () => clearTimeout(timer);
  });

  /** The first row on screen for a byte. */
  function rowOf(at: number): number {
    return Math.max(0, Math.floor(at / 16) - 4);
  }

  function goTo(at: number) {
    cursor = Math.max(0, size ? Math.min(size - 1, at) : at); // one may jump before the file's size is known
    first = rowOf(cursor);
  }

  const check = (all: boolean) =>
    draft.attempt(async () => {
      const body = { path: all ? "" : path, text: draft.text, at: 0, length: 0 };
      const started = await got(api.POST("/api/games/{game_id}/bench/check", { params, body }));
      checkStarted = started.id;
      tab = "check";
      app.started(started);
    });
</script>

<div class="flex h-full flex-col px-4 pt-3 pb-2">
  <LayoutBar
    {draft}
    {path}
    {files}
    faulty={!!tried?.fault}
    ofGame={!!tried?.game}
    check={() => check(false)}
    begin={() => (beginning = true)}
  />
  {#if draft.problem}<div class="mt-2">
      <ProblemPanel problem={draft.problem} close={() => (draft.problem = null)} />
    </div>{/if}
  <div
    class="mt-3 grid min-h-0 grow grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-4 max-lg:grid-cols-1 max-lg:overflow-auto"
  >
    <TextSide {draft} {tried} {words} {goTo} begin={() => (beginning = true)} />
    {#if tried?.game}
      <OfGame game={tried.game} />
    {:else}
      <FileSide
        {game_id}
        {path}
        {size}
        {entropy}
        {draft}
        {tried}
        {reads}
        {spans}
        {job}
        bind:tab
        bind:cursor
        bind:first
        {goTo}
        {check}
      />
    {/if}
  </div>
</div>
{#if beginning}<Begin {game_id} {path} {draft} {goTo} close={() => (beginning = false)} />{/if}
