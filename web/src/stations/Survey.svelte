<script lang="ts">
  import ArchiveEntries from "../components/ArchiveEntries.svelte";
  import ByteRibbon from "../components/ByteRibbon.svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import KeyRing from "../components/KeyRing.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import TakeOut, { type Selection } from "../components/TakeOut.svelte";
  import { untrack } from "svelte";
  import {
    api,
    asProblem,
    got,
    type ProblemText,
    type Ribbon,
    type Survey,
    type SurveyFile,
  } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, spaced } from "../lib/format";
  import { newest } from "../lib/newest";
  import { Pages } from "../lib/pages.svelte";

  const ROW = 33;
  const game_id = app.gameId;
  let survey = $state<Survey | null>(null);
  let loaded = $state(false);
  let problem = $state<ProblemText | null>(null);
  let path = $state(app.detail);
  let file = $state<SurveyFile | null>(null);
  let ribbon = $state<Ribbon | null>(null);
  let selection = $state<Selection | null>(null);
  let ring = $state(false);
  let q = $state(new URLSearchParams(app.search).get("q") ?? "");
  let scrollTop = $state(0);
  let height = $state(400);

  const list = new Pages<string, SurveyFile>(
    async (q, page, signal) =>
      got(
        api.GET("/api/games/{game_id}/files", {
          params: { path: { game_id }, query: { q, ...page } },
          signal,
        }),
      ),
    "",
  );
  const first = $derived(Math.max(0, Math.floor(scrollTop / ROW) - 6));
  const last = $derived(Math.min(list.total - 1, Math.ceil((scrollTop + height) / ROW) + 6));
  const job = $derived(app.openJobs.find((j) => j.kind === "survey"));
  const reading = $derived(app.openJobs.find((j) => j.kind === "digest" && j.game_id === game_id));
  const archive = $derived(file?.archive_id ?? 0);
  const readable = $derived(!!file && !["unreadable", "locked"].includes(file.what));
  const WORDS: Record<string, string> = {
    archive: "archive",
    sound: "sound",
    locked: "locked",
    unreadable: "can't be read",
    companion: "volume",
    list: "list of sums",
    other: "not recognised",
  };

  const asking = newest();

  /** The totals, and the chosen file as it is now; where none is chosen, the one with the most streams. */
  async function load() {
    const current = asking();
    const params = { path: { game_id } };
    try {
      const found = (await got(api.GET("/api/games/{game_id}/survey", { params }))) ?? null;
      let now = found && path ? await look(path) : null;
      if (found && !now) {
        const query = { sort: "-streams", limit: 1 };
        now =
          (await got(api.GET("/api/games/{game_id}/files", { params: { ...params, query } }))).rows[0] ??
          null;
      }
      if (!current()) return;
      survey = found;
      file = now;
      path = now?.path ?? "";
    } catch (error) {
      problem = asProblem(error);
    }
    loaded = true;
  }
  const look = async (path: string) =>
    (await got(api.GET("/api/games/{game_id}/file", { params: { path: { game_id }, query: { path } } }))) ??
    null;

  $effect(() => {
    void app.finished;
    untrack(() => void load());
  });
  $effect(() => {
    void app.finished;
    const wanted = q;
    const timer = setTimeout(() => untrack(() => void list.ask(wanted)), loaded ? 120 : 0);
    return () => clearTimeout(timer);
  });
  $effect(() => list.show(first, last));
  // The address follows the search and the chosen file, and the screen an address that somebody else has set.
  $effect(() => {
    const search = q ? new URLSearchParams({ q }).toString() : "";
    const chosen = path;
    untrack(() => loaded && app.put(chosen, search));
  });
  $effect(() => {
    const [named, search] = [app.detail, app.search];
    untrack(() => {
      if (!loaded || (!named && !search)) return;
      q = new URLSearchParams(search).get("q") ?? "";
      if (named && named !== path) {
        path = named;
        void load();
      }
    });
  });

  function choose(row: SurveyFile) {
    file = row;
    path = row.path;
  }

  $effect(() => {
    const id = archive;
    ribbon = null;
    problem = null;
    if (!id || !readable) return;
    got(api.GET("/api/archives/{archive_id}/ribbon", { params: { path: { archive_id: id } } })).then(
      (r) => id === archive && (ribbon = r),
      (e) => (problem = asProblem(e)),
    );
  });

  // Once a locked file was looked at, the key ring stays: what trying keys gave is read there.
  $effect(() => {
    if (file?.what === "locked") ring = true;
  });

  async function again() {
    await app.attempt(api.POST("/api/games/{game_id}/survey", { params: { path: { game_id } } }));
    app.wake();
  }
</script>

<div class="flex h-full max-md:block max-md:overflow-auto">
  <section class="flex min-w-0 grow flex-col overflow-auto px-4 py-4 max-md:overflow-visible">
    <div class="flex flex-wrap items-end justify-between gap-3">
      <div>
        <h1 class="text-xl font-bold">Survey</h1>
        <p class="num text-quiet break-all">{app.game?.folder}</p>
      </div>
      <div class="flex flex-wrap gap-2">
        {#if survey}
          <a class="btn btn-sm" href="#/{game_id}/changes">What changed</a>
          <button class="btn btn-sm" aria-pressed={ring} onclick={() => (ring = !ring)}>Keys</button>
          <button
            class="btn btn-sm"
            onclick={() =>
              (selection = { archive: 0, q: "", entries: [], title: `All archives of ${app.game?.name}` })}
            >Take all out</button
          >
        {/if}
        <button class="btn btn-sm" disabled={!!job} onclick={again}>Survey again</button>
      </div>
    </div>
    {#if job}
      <div class="mt-4"><JobPanel {job} /></div>
    {/if}
    {#if survey}
      <dl class="mt-4 flex flex-wrap gap-x-10 gap-y-2">
        {#each [["files", spaced(survey.files)], ["on disk", bytes(survey.bytes)], ["unpacked", bytes(survey.unpacked)], ["free for Zubret", bytes(survey.disk_free)]] as [name, value] (name)}
          <div>
            <dt class="text-quiet">{name}</dt>
            <dd class="num text-base">{value}</dd>
          </div>
        {/each}
        {#if reading}
          <div>
            <dt class="text-quiet">contents, in the background</dt>
            <dd class="num text-base">
              {reading.total ? `${Math.floor((reading.done / reading.total) * 100)} %` : "waiting"}
              <button class="btn btn-xs" onclick={() => app.cancel(reading)}>Cancel</button>
            </dd>
          </div>
        {/if}
      </dl>
      <div class="mt-4 flex items-center gap-3">
        <label class="flex items-center gap-2"
          ><span class="text-quiet">Path</span>
          <input class="input input-sm w-64 font-mono" type="search" bind:value={q} /></label
        >
        {#if q}<p class="text-quiet" role="status">{spaced(list.total)} found</p>{/if}
      </div>
      {#if list.problem}<div class="mt-3"><ProblemPanel problem={list.problem} /></div>{/if}
      <div
        class="mt-2 min-h-48 shrink overflow-auto max-md:max-h-[60vh]"
        bind:clientHeight={height}
        onscroll={(e) => (scrollTop = e.currentTarget.scrollTop)}
      >
        <table class="w-full min-w-[720px] table-fixed" aria-rowcount={list.total + 1}>
          <thead class="sticky top-0 z-10 bg-base-100">
            <tr class="border-y border-line text-left text-quiet">
              <th class="py-1.5 pr-3 font-normal">file</th>
              <th class="w-[34%] px-3 font-normal">what it is</th>
              <th class="w-20 px-3 text-right font-normal">entries</th>
              <th class="w-20 px-3 text-right font-normal">streams</th>
              <th class="w-24 px-3 text-right font-normal">unpacked</th>
              <th class="w-26 px-3 text-right font-normal">on disk</th>
            </tr>
          </thead>
          <tbody>
            {#if first > 0}<tr aria-hidden="true" style="height: {first * ROW}px"></tr>{/if}
            {#each { length: Math.max(0, last - first + 1) } as _, n (first + n)}
              {@const row = list.at(first + n)}
              {#if row}
                {@const quiet = row.what === "other" || row.what === "companion"}
                <tr
                  class="h-[33px] border-b border-line {row.path === path ? 'bg-base-300' : ''}"
                  aria-rowindex={first + n + 2}
                >
                  <td class="pr-3">
                    <button
                      class="num w-full truncate border-l-[3px] text-left {quiet
                        ? 'text-quiet'
                        : ''} {row.path === path ? 'border-primary' : 'border-transparent'}"
                      style="padding-left: {8 + 18 * (row.inside ? row.path.split(' › ').length - 1 : 0)}px"
                      title={row.path}
                      aria-pressed={row.path === path}
                      onclick={() => choose(row)}
                      >{row.inside ? `› ${row.path.split(" › ").at(-1)}` : row.path}</button
                    >
                  </td>
                  <td
                    class="truncate px-3 {row.error && row.what !== 'archive'
                      ? 'text-error'
                      : quiet
                        ? 'text-quiet'
                        : ''}"
                    title={row.evidence}
                    >{row.what === "locked"
                      ? "■ locked"
                      : row.error && row.what === "archive"
                        ? "archive, in part not read"
                        : WORDS[row.what]}{row.belongs_to
                      ? ` of ${row.belongs_to.split("/").at(-1)}`
                      : row.layout
                        ? ` · ${row.layout}`
                        : ""}</td
                  >
                  <td class="num px-3 text-right">{row.entries ? spaced(row.entries) : ""}</td>
                  <td class="num px-3 text-right">{row.streams ? spaced(row.streams) : ""}</td>
                  <td class="num px-3 text-right">{bytes(row.unpacked)}</td>
                  <td class="num px-3 text-right">{bytes(row.size)}</td>
                </tr>
              {:else}<tr class="h-[33px] border-b border-line"
                  ><td class="px-3 text-quiet" colspan="6">…</td></tr
                >{/if}
            {/each}
            {#if last < list.total - 1}
              <tr aria-hidden="true" style="height: {(list.total - 1 - last) * ROW}px"></tr>
            {/if}
          </tbody>
        </table>
        {#if !list.loading && !list.total}
          <p class="py-4 text-quiet">{q ? "No file has this in its path." : "The folder is empty."}</p>
        {/if}
      </div>
      <div class="mt-5"><a class="btn btn-primary" href="#/{game_id}/locate">Listen in Locate</a></div>
    {:else if loaded && !job}
      <p class="mt-6 text-quiet">
        This game has not been surveyed yet. The survey reads the folder and changes nothing.
      </p>
      <button class="btn btn-primary mt-3" onclick={again}>Survey the folder</button>
    {/if}
  </section>
  {#if file}
    <aside
      aria-label="The chosen file"
      class="w-[340px] shrink-0 overflow-auto border-l border-line bg-base-200 p-4 max-md:w-full"
    >
      <h2 class="num text-base font-semibold break-all">{file.path}</h2>
      <p>
        {WORDS[file.what]}{file.layout ? `, read by ${file.layout}` : ""}
        {#if file.archive_id || !file.error}<span class="block text-quiet">{file.evidence}</span>{/if}
      </p>
      {#if file.archive_id || !file.error}
        <a class="btn btn-sm mt-2" href="#/{game_id}/bench/{encodeURIComponent(file.path)}"
          >{file.what === "other" ? "Describe it on the layout bench" : "Look at its bytes"}</a
        >
      {/if}
      {#if file.what === "other"}
        <a class="btn btn-sm mt-2" href="#/{game_id}/unknown/{encodeURIComponent(file.path)}"
          >Listen to its bytes</a
        >
      {/if}
      {#if file.error}<div class="mt-3"><ProblemPanel problem={file.error} /></div>{/if}
      {#if ring}<div class="mt-5"><KeyRing /></div>{/if}
      {#if problem}<div class="mt-3"><ProblemPanel {problem} /></div>{/if}
      {#if ribbon}
        <h3 class="mt-5 mb-2 text-quiet">Where its bytes are</h3>
        <ByteRibbon {ribbon} label={file.path} />
      {/if}
      {#if file.archive_id && file.entries && file.what === "archive"}
        <ArchiveEntries {file} stamp={survey} takeOut={(chosen) => (selection = chosen)} />
      {/if}
    </aside>
  {/if}
</div>
{#if selection}
  {#key selection}<TakeOut {selection} close={() => (selection = null)} />{/key}
{/if}
