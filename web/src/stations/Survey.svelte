<script lang="ts">
  import ByteRibbon from "../components/ByteRibbon.svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, asProblem, got, type Entry, type ProblemText, type Ribbon, type Survey } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, count, spaced } from "../lib/format";

  let survey = $state<Survey | null>(null);
  let loaded = $state(false);
  let problem = $state<ProblemText | null>(null);
  let path = $state("");
  let ribbon = $state<Ribbon | null>(null);
  let entries = $state<Entry[]>([]);
  let entryCount = $state(0);
  let entryText = $state("");

  const job = $derived(app.openJobs.find((j) => j.kind === "survey"));
  const file = $derived(survey?.rows.find((r) => r.path === path));
  const WORDS: Record<string, string> = {
    archive: "archive",
    sound: "sound",
    unreadable: "can't be read",
    other: "not recognised",
  };

  async function load() {
    try {
      const game_id = app.gameId;
      survey = (await got(api.GET("/api/games/{game_id}/survey", { params: { path: { game_id } } }))) ?? null;
      if (survey && !survey.rows.some((r) => r.path === path))
        path = [...survey.rows].sort((a, b) => b.streams - a.streams)[0]?.path ?? "";
    } catch (error) {
      problem = asProblem(error);
    }
    loaded = true;
  }
  $effect(() => {
    void app.finished;
    void load();
  });

  $effect(() => {
    const id = file?.archive_id;
    ribbon = null;
    problem = null;
    if (!id || file?.what === "unreadable") return;
    got(api.GET("/api/archives/{archive_id}/ribbon", { params: { path: { archive_id: id } } })).then(
      (r) => id === file?.archive_id && (ribbon = r),
      (e) => (problem = asProblem(e)),
    );
  });

  $effect(() => {
    const archive = file?.archive_id;
    const q = entryText;
    entries = [];
    entryCount = 0;
    if (!archive) return;
    const timer = setTimeout(async () => {
      try {
        const page = await got(
          api.GET("/api/games/{game_id}/entries", {
            params: { path: { game_id: app.gameId }, query: { archive, q, limit: 200 } },
          }),
        );
        entries = page.rows;
        entryCount = page.total;
      } catch (error) {
        problem = asProblem(error);
      }
    }, 100);
    return () => clearTimeout(timer);
  });

  async function again() {
    await app.attempt(api.POST("/api/games/{game_id}/survey", { params: { path: { game_id: app.gameId } } }));
    app.wake();
  }

  async function forget() {
    const game = app.game!;
    await app.attempt(api.DELETE("/api/games/{game_id}", { params: { path: { game_id: game.id } } }));
    await app.loadGames();
    location.hash = "/";
  }
</script>

<div class="flex h-full max-md:flex-col">
  <section class="min-w-0 grow overflow-auto px-4 py-4">
    <div class="flex flex-wrap items-end justify-between gap-3">
      <div>
        <h1 class="text-xl font-bold">Survey</h1>
        <p class="num text-quiet break-all">{app.game?.folder}</p>
      </div>
      <div class="flex gap-2">
        <button class="btn btn-sm" onclick={forget} title="The game's folder is not touched"
          >Forget this game</button
        >
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
      </dl>
      <div class="mt-4 overflow-x-auto">
        <table class="w-full min-w-[600px]">
          <thead>
            <tr class="border-y border-line text-left text-quiet">
              <th class="py-1.5 pr-3 font-normal">file</th>
              <th class="px-3 font-normal">what it is</th>
              <th class="px-3 text-right font-normal">entries</th>
              <th class="px-3 text-right font-normal">streams</th>
              <th class="px-3 text-right font-normal">unpacked</th>
              <th class="pl-3 text-right font-normal">on disk</th>
            </tr>
          </thead>
          <tbody>
            {#each survey.rows as row (row.path)}
              <tr class="h-[33px] border-b border-line {row.path === path ? 'bg-base-300' : ''}">
                <td class="pr-3">
                  <button
                    class="num w-full text-left {row.what === 'other' ? 'text-quiet' : ''} {row.path === path
                      ? 'border-l-[3px] border-primary pl-2'
                      : 'pl-[11px]'}"
                    aria-pressed={row.path === path}
                    onclick={() => (path = row.path)}>{row.path}</button
                  >
                </td>
                <td
                  class="px-3 {row.what === 'unreadable' || row.error
                    ? 'text-error'
                    : row.what === 'other'
                      ? 'text-quiet'
                      : ''}"
                  >{row.error && row.what === "archive"
                    ? "archive, in part damaged"
                    : WORDS[row.what]}{row.layout ? ` · ${row.layout}` : ""}</td
                >
                <td class="num px-3 text-right">{row.entries ? spaced(row.entries) : ""}</td>
                <td class="num px-3 text-right">{row.streams ? spaced(row.streams) : ""}</td>
                <td class="num px-3 text-right">{bytes(row.unpacked)}</td>
                <td class="num pl-3 text-right">{bytes(row.size)}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
      <div class="mt-5"><a class="btn btn-primary" href="#/{app.gameId}/locate">Listen in Locate</a></div>
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
      <p class="text-quiet">
        {WORDS[file.what]}{file.layout ? `, read by ${file.layout}` : ""}{file.what === "other"
          ? ": no layout's mark and no known signature stands at its beginning"
          : ""}
      </p>
      {#if file.error}<div class="mt-3"><ProblemPanel problem={file.error} /></div>{/if}
      {#if problem}<div class="mt-3"><ProblemPanel {problem} /></div>{/if}
      {#if ribbon}
        <h3 class="mt-5 mb-2 text-quiet">Where its bytes are</h3>
        <ByteRibbon {ribbon} label={file.path} />
      {/if}
      {#if file.archive_id && file.what !== "unreadable"}
        <div class="mt-5 flex items-center justify-between gap-3">
          <h3 class="text-quiet">{count(entryCount, "entry").replace("entrys", "entries")}</h3>
          <input
            class="input input-sm w-40"
            placeholder="path"
            aria-label="Filter entries by path"
            bind:value={entryText}
          />
        </div>
        <ul class="mt-2">
          {#each entries as entry (entry.id)}
            <li class="flex items-baseline justify-between gap-3 border-b border-line py-1.5">
              <span class="num min-w-0 break-all">{entry.path}</span>
              <span class="num shrink-0 text-right text-quiet">{bytes(entry.size)}<br />{entry.method}</span>
            </li>
          {/each}
        </ul>
        {#if entryCount > entries.length}
          <p class="mt-2 text-quiet">The first {entries.length} are shown; filter by path to see others.</p>
        {/if}
      {/if}
    </aside>
  {/if}
</div>
