<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { tick, untrack } from "svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import TakeOut, { type Selection } from "../components/TakeOut.svelte";
  import { toggled } from "../lib/address";
  import { api, got, type SurveyFile } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { inAddress, whenAsked } from "../lib/asking.svelte";
  import { ofGame } from "../lib/cache";
  import { bytes, spaced } from "../lib/format";
  import { newest } from "../lib/newest";
  import { Choice } from "../list/choice.svelte";
  import List from "../list/List.svelte";
  import ChosenFiles from "../survey/ChosenFiles.svelte";
  import FileFilters from "../survey/FileFilters.svelte";
  import FilePanel from "../survey/FilePanel.svelte";
  import GamePicture from "../survey/GamePicture.svelte";
  import {
    ALL_FILES,
    fileColumns,
    FileRows,
    filesFromSearch,
    filesToSearch,
    isQuiet,
    listed,
    narrowsFiles,
    whatItIs,
    type FileQuery,
  } from "../survey/files.svelte";

  const game_id = app.gameId;
  const params = { path: { game_id } };
  let query = $state<FileQuery>(app.search ? filesFromSearch(app.search) : { ...ALL_FILES });
  const asks = $derived(JSON.stringify(listed(query)));
  let answered = $state("");
  let file = $state.raw<SurveyFile | null>(null);
  let selection = $state<Selection | null>(null);

  const rows = new FileRows(game_id);
  const columns = fileColumns();
  const choice = new Choice<SurveyFile>(
    rows,
    (row) => row.id,
    rows.numbers,
    (row) => {
      if (row.path !== file?.path) query.entries = query.order = query.entry = "";
      file = row;
    },
  );
  let list = $state<ReturnType<typeof List<SurveyFile>>>();

  const found = createQuery(() => ({
    queryKey: ofGame(game_id, "survey"),
    queryFn: async () => (await got(api.GET("/api/games/{game_id}/survey", { params }))) ?? null,
  }));
  const survey = $derived(found.data);
  const job = $derived(app.openJobs.find((j) => j.kind === "survey" && j.game_id === game_id));
  /** What became of the last try, where that gave no survey. */
  let read = $state(0); // the number of a failed job whose message was closed
  const failed = $derived.by(() => {
    const last = app.lastJob("survey");
    const newer = !survey || (last?.finished ?? "") > survey.finished;
    return last?.error && newer && last.id !== read ? last : null;
  });
  const reading = $derived(app.openJobs.find((j) => j.kind === "digest" && j.game_id === game_id));

  whenAsked(
    () => asks,
    async (asked) => {
      if (!(await rows.ask(JSON.parse(asked)))) return;
      answered = asked;
      await stand();
    },
  );

  const asking = newest();

  /** The chosen file as it is now; where none is chosen, the one with the most streams. */
  async function look(path: string): Promise<void> {
    const current = asking();
    const moved = choice.since();
    const now = path
      ? await app.attempt(api.GET("/api/games/{game_id}/file", { params: { ...params, query: { path } } }))
      : null;
    const most = { sort: "-streams", limit: 1 };
    const there =
      now ??
      (await app.attempt(api.GET("/api/games/{game_id}/files", { params: { ...params, query: most } })))
        ?.rows[0] ??
      null;
    if (!current()) return;
    if (moved() && file) return look(file.path); // somebody has chosen another one meanwhile
    file = there;
    await stand();
  }
  $effect(() => {
    if (survey) untrack(() => void look(file?.path ?? app.detail));
  });

  const several = $derived(choice.chosen.size > 1);
  let chosenOf = 0; // the survey whose files are chosen

  /** The chosen file is the current row, where the list has it. */
  async function stand() {
    if (!file || !answered) return;
    const moved = choice.since();
    const place = await rows.placeOf(file.path);
    if (moved()) return;
    choice.at = place;
    if (!several || chosenOf !== survey?.id) choice.only(file.id);
    chosenOf = survey?.id ?? 0;
    await tick();
    choice.reveal(place);
  }

  inAddress(
    () => filesToSearch(query),
    (search) => (query = filesFromSearch(search)),
    () => file?.path ?? null,
  );
  $effect(() => {
    const named = app.detail;
    untrack(() => file && named && named !== file.path && void look(named));
  });

  // Once a locked file was looked at, the key ring stays: what trying keys gave is read there.
  $effect(() => {
    if (file?.what === "locked") query.keys = true;
  });

  const turn = (row: SurveyFile) => (query.opened = toggled(query.opened, row.path));
  const opens = (row: SurveyFile) => query.tree && row.opens && !narrowsFiles(query);

  /** In a tree, right opens and left closes. */
  function key(e: KeyboardEvent): boolean {
    if (!query.tree || !file || !opens(file)) return false;
    const open = query.opened.includes(file.path);
    if (e.key === (open ? "ArrowLeft" : "ArrowRight")) turn(file);
    else return e.key === "ArrowLeft" || e.key === "ArrowRight";
    return true;
  }

  async function again() {
    await app.attempt(api.POST("/api/games/{game_id}/survey", { params }));
    app.wake();
  }
</script>

{#snippet path(row: SurveyFile)}
  <span
    class="num flex min-w-0 items-baseline {isQuiet(row) ? 'text-quiet' : ''}"
    style="padding-left: {18 *
      (query.tree ? row.depth : row.inside ? row.path.split(' › ').length - 1 : 0)}px"
  >
    {#if query.tree}
      {#if opens(row)}
        <button
          class="w-5 shrink-0"
          tabindex="-1"
          aria-label="{query.opened.includes(row.path) ? 'Close' : 'Open'} {row.path}"
          onclick={(e) => {
            e.stopPropagation();
            turn(row);
          }}>{query.opened.includes(row.path) ? "▾" : "▸"}</button
        >
      {:else}<span class="w-5 shrink-0 text-center">{row.opens ? "▾" : ""}</span>{/if}
    {/if}
    <span class="truncate"
      >{row.inside
        ? `› ${row.path.split(" › ").at(-1)}`
        : query.tree
          ? row.path.split("/").at(-1)
          : row.path}</span
    >
  </span>
{/snippet}
{#snippet what(row: SurveyFile)}
  <span class={row.error && row.what !== "archive" ? "text-error" : ""}>{whatItIs(row)}</span>
{/snippet}
{#snippet narrow(row: SurveyFile)}
  <div class="flex items-baseline gap-2">
    <span class="num min-w-0 grow truncate">{row.path}</span>
    <span class="num shrink-0">{bytes(row.size)}</span>
  </div>
  <div class="truncate text-quiet">
    {whatItIs(row)}{row.streams ? ` · ${spaced(row.streams)} streams` : ""}
  </div>
{/snippet}

<div class="flex h-full max-lg:flex-col">
  <section class="flex min-h-0 min-w-0 grow flex-col px-4 pt-3 max-md:px-3" aria-label="Files">
    <div class="flex flex-wrap items-center justify-between gap-x-3 gap-y-1 md:flex-nowrap">
      <div class="flex min-w-0 items-baseline gap-3">
        <h1 class="text-xl font-bold max-md:sr-only">Survey</h1>
        <p class="num truncate text-quiet" title={app.game?.folder}>{app.game?.folder}</p>
      </div>
      <div class="flex flex-wrap gap-2 md:shrink-0 md:flex-nowrap">
        {#if survey}
          <a class="btn btn-sm" href="#/{game_id}/changes">What changed</a>
          <a
            class="btn btn-sm max-md:hidden"
            href="#/{game_id}/inside"
            title="Look for sounds in all files that nothing describes">What is in here?</a
          >
          <button class="btn btn-sm" aria-pressed={query.keys} onclick={() => (query.keys = !query.keys)}
            >Keys</button
          >
          <button
            class="btn btn-sm max-md:hidden"
            onclick={() => (selection = { title: `All archives of ${app.game?.name}` })}>Take all out</button
          >
        {/if}
        <button class="btn btn-sm" disabled={!!job} onclick={again}>Survey again</button>
      </div>
    </div>
    {#if job}<div class="mt-3"><JobPanel {job} /></div>
    {:else if failed}
      <div class="mt-3"><ProblemPanel problem={failed.error!} close={() => (read = failed.id)} /></div>
    {/if}
    {#if survey}
      <GamePicture
        within={query.within}
        chosen={query.below}
        listen={survey.streams > 0}
        into={(within) => (query = { ...query, within, below: "" })}
        choose={(below) => (query.below = below)}
      />
      <div class="mt-1 md:min-h-10">
        {#if several}
          <ChosenFiles
            chosen={choice.chosen}
            takeOut={(title) => (selection = { files: [...choice.chosen], title })}
            none={() => {
              choice.alone();
              list?.focus();
            }}
          />
        {:else}
          <p class="num py-2 text-quiet max-md:hidden">
            {spaced(survey.files)} files · {bytes(survey.bytes)} on disk · {bytes(survey.unpacked)} unpacked · {bytes(
              survey.disk_free,
            )} free for Zubret
            {#if reading}
              · contents are read in the background: {reading.total
                ? `${Math.floor((reading.done / reading.total) * 100)} %`
                : "waiting"}
              <button class="btn btn-xs" onclick={() => app.cancel(reading)}>Cancel</button>
            {/if}
          </p>
        {/if}
      </div>
      <div class="mt-1 mb-2">
        <FileFilters bind:query found={rows.total} {columns} toList={() => list?.focus()} />
      </div>
      {#if rows.problem}<ProblemPanel problem={rows.problem} />{/if}
      <List
        bind:this={list}
        label="Files"
        {columns}
        {choice}
        bind:sort={query.sort}
        busy={asks !== answered}
        {key}
        jump={rows.jump}
        open={(row) => opens(row) && turn(row)}
        cells={{ path, what }}
        {narrow}
      >
        {#snippet empty()}
          {narrowsFiles(query) ? "No file is left. Take a filter away." : "The folder is empty."}
        {/snippet}
      </List>
    {:else if found.isSuccess && !job}
      <p class="mt-6 text-quiet">
        This game has not been surveyed yet. The survey reads the folder and changes nothing.
      </p>
      <div><button class="btn btn-primary mt-3" onclick={again}>Survey the folder</button></div>
    {/if}
  </section>
  {#if file}<FilePanel {file} bind:query takeOut={(chosen) => (selection = chosen)} />{/if}
</div>
{#if selection}
  {#key selection}<TakeOut {selection} close={() => (selection = null)} />{/key}
{/if}
