<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { untrack } from "svelte";
  import {
    changeColumns,
    ChangeRows,
    filterOf,
    fromSearch,
    more,
    pathOf,
    SIGNS,
    toSearch,
    type ChangeQuery,
  } from "../changes/changes.svelte";
  import Picker from "../changes/Picker.svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, attempted, every, got, type Change, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { inAddress, whenAsked } from "../lib/asking.svelte";
  import { cache, OF_SURVEYS } from "../lib/cache";
  import { bytes, spaced } from "../lib/format";
  import { Choice } from "../list/choice.svelte";
  import ColumnsMenu from "../list/ColumnsMenu.svelte";
  import List from "../list/List.svelte";

  /** What changed between two surveys. */
  let query = $state<ChangeQuery>(fromSearch(app.search));
  const found = createQuery(() => ({
    queryKey: [...OF_SURVEYS, "list"],
    queryFn: () => every((page) => got(api.GET("/api/surveys", { params: { query: page } }))),
  }));
  const surveys = $derived(found.data ?? []);
  // What the address does not say: this game's newest survey, and the one before it.
  $effect(() => {
    if (!surveys.length) return;
    untrack(() => {
      const there = (id: number | null) => surveys.some((survey) => survey.id === id);
      const mine = surveys.filter((survey) => survey.game_id === app.gameId);
      if (!there(query.now)) query.now = (mine[0] ?? surveys[0])!.id;
      if (!there(query.old)) query.old = (mine[1] ?? surveys.find((s) => s.id !== query.now))?.id ?? null;
    });
  });
  const two = $derived(!!query.old && !!query.now && query.old !== query.now);

  const rows = new ChangeRows();
  const choice = new Choice<Change>(
    rows,
    (change) => change.id,
    async () => [],
    () => {},
  );
  const asks = $derived(two ? JSON.stringify(query) : "");
  let answered = $state("");
  whenAsked(
    () => asks,
    async (asked) => {
      if (asked && (await rows.ask(JSON.parse(asked)))) answered = asked;
    },
  );
  inAddress(
    () => toSearch(query),
    (search) => (query = fromSearch(search)),
  );

  const page = $derived(answered && two ? rows.head : null);
  const kinds = $derived(page?.kinds ?? []);
  const words = $derived(Object.fromEntries(kinds.map(({ kind, label }) => [kind, label])));
  const columns = changeColumns(() => words);

  let problem = $state<ProblemText | null>(null);
  let begun = $state({ job: 0, pair: "" }); // the comparison that this screen has begun
  const pair = $derived(`${query.old} ${query.now}`);
  const reading = $derived(app.openJobs.find((j) => j.kind === "digest"));
  const comparing = $derived(begun.pair === pair ? app.jobs.find((j) => j.id === begun.job) : undefined);
  const running = $derived(comparing?.state === "waiting" || comparing?.state === "running");

  // Each answer tells whether to compare. While contents are being read, a new one would be out of date at once; what failed is
  // not begun again.
  $effect(() => {
    if (!page || (page.made && (page.fresh || reading))) return;
    untrack(() => {
      const other = answered !== asks || (comparing && comparing.state !== "done");
      if (!other) void attempted(compare, (told) => (problem = told));
    });
  });

  /** Have the two compared; the end of that brings the answer. */
  async function compare() {
    const started = await got(api.POST("/api/changes/{old}/{new}", { params: { path: pathOf(query) } }));
    begun = { job: started.id, pair };
    app.started(started);
  }

  const csv = $derived(
    `/api/changes/${query.old}/${query.now}/csv?${new URLSearchParams(filterOf(query) as Record<string, string>)}`,
  );
</script>

{#snippet kind(change: Change)}
  <span class="num text-primary" aria-hidden="true">{SIGNS[change.kind]}</span>
  {words[change.kind] ?? change.kind}
{/snippet}
{#snippet narrow(change: Change)}
  <div class="flex items-baseline gap-2">
    <span class="num text-primary" title={words[change.kind]}>{SIGNS[change.kind]}</span>
    <span class="num min-w-0 grow truncate">{change.path || change.file}</span>
    <span class="num shrink-0">{bytes(change.new_size ?? change.old_size ?? 0)}</span>
  </div>
  <div class="num truncate pl-5 text-quiet">
    {more(change) || (change.path ? change.file : "the file itself")}
  </div>
{/snippet}
{#snippet chip(key: string, word: string, number: number)}
  <button
    class="rounded-full border px-3 py-0.5 {query.kind === key
      ? 'border-primary bg-base-300'
      : 'border-line text-quiet'}"
    aria-pressed={query.kind === key}
    onclick={() => (query.kind = key)}>{word} {spaced(number)}</button
  >
{/snippet}

<div class="mx-auto flex h-full max-w-[84rem] flex-col px-4 py-4">
  <div class="flex items-center gap-3">
    <h1 class="text-xl font-bold">What changed</h1>
    <a class="btn btn-sm ml-auto" href="#/{app.gameId}/survey">Back to Survey</a>
  </div>
  {#if found.isSuccess && surveys.length < 2}
    <p class="mt-4 text-quiet">
      There is only one survey so far. When the game has been updated, survey it again, then come back: this
      screen tells what the update did to every entry.
    </p>
  {:else if surveys.length}
    <div class="mt-3 flex gap-6 max-md:flex-col max-md:gap-2">
      {#each [["before", "old"], ["after", "now"]] as const as [title, side] (side)}
        <Picker
          {title}
          {surveys}
          bind:value={query[side]}
          labelled={() => cache.invalidateQueries({ queryKey: [...OF_SURVEYS, "list"] })}
        />
      {/each}
    </div>
    {#if query.old === query.now}
      <p class="mt-4 text-quiet">These are the same survey: choose two.</p>
    {:else}
      {#if page?.made}
        <div class="mt-4 flex flex-wrap items-end gap-x-5 gap-y-2">
          <div role="group" aria-label="Kind of change" class="flex flex-wrap gap-1.5">
            {@render chip(
              "",
              "all",
              kinds.reduce((sum, { changes }) => sum + changes, 0),
            )}
            {#each kinds as { kind: key, label, changes } (key)}{@render chip(key, label, changes)}{/each}
          </div>
          <input
            class="input input-sm w-48"
            type="search"
            placeholder="path"
            aria-label="Filter by path"
            bind:value={query.q}
          />
          <a class="btn btn-sm" href={csv} download>CSV</a>
          <ColumnsMenu {columns} />
        </div>
      {/if}
      {#if reading}
        <p role="status" class="mt-2 text-quiet">
          Contents are still being read in the background ({reading.note}); the answer sharpens as they are
          known.
        </p>
      {:else if words.unsure}
        <p class="mt-2 text-quiet">
          What is “{words.unsure}” has the same size on both sides, or is locked on one; its contents were not
          read, or that version is gone.
        </p>
      {/if}
      {#if problem ?? rows.problem}
        <div class="mt-3"><ProblemPanel problem={(problem ?? rows.problem)!} /></div>
      {/if}
      {#if comparing && running}
        <div class="mt-3"><JobPanel job={comparing} /></div>
      {:else if comparing && comparing.state !== "done"}
        <div class="mt-3 flex items-center gap-3">
          <p>{comparing.error?.what ?? "Comparing was cancelled."}</p>
          <button class="btn btn-sm" onclick={() => attempted(compare, (told) => (problem = told))}
            >Compare again</button
          >
        </div>
      {/if}
      {#if page?.made}
        <div class="mt-3 flex min-h-0 grow flex-col">
          <List
            label="Changes"
            many={false}
            {columns}
            {choice}
            busy={asks !== answered}
            jump={rows.jump}
            cells={{ kind }}
            {narrow}
          >
            {#snippet empty()}Nothing changed that fits the filter.{/snippet}
          </List>
        </div>
      {/if}
    {/if}
  {/if}
</div>
