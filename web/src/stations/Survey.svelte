<script lang="ts">
  import ArchiveEntries from "../components/ArchiveEntries.svelte";
  import ByteRibbon from "../components/ByteRibbon.svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import KeyRing from "../components/KeyRing.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import TakeOut, { type Selection } from "../components/TakeOut.svelte";
  import { api, asProblem, got, type ProblemText, type Ribbon, type Survey } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, spaced } from "../lib/format";

  let survey = $state<Survey | null>(null);
  let loaded = $state(false);
  let problem = $state<ProblemText | null>(null);
  let path = $state("");
  let ribbon = $state<Ribbon | null>(null);
  let selection = $state<Selection | null>(null);
  let ring = $state(false);

  const job = $derived(app.openJobs.find((j) => j.kind === "survey"));
  const reading = $derived(app.openJobs.find((j) => j.kind === "digest" && j.game_id === app.gameId));
  const file = $derived(survey?.rows.find((r) => r.path === path));
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

  async function load() {
    try {
      const game_id = app.gameId;
      survey = (await got(api.GET("/api/games/{game_id}/survey", { params: { path: { game_id } } }))) ?? null;
      if (survey && !survey.rows.some((r) => r.path === path))
        path =
          survey.rows.find((r) => r.path === app.detail)?.path ??
          [...survey.rows].sort((a, b) => b.streams - a.streams)[0]?.path ??
          "";
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
      <div class="flex flex-wrap gap-2">
        {#if survey}
          <a class="btn btn-sm" href="#/{app.gameId}/changes">What changed</a>
          <button class="btn btn-sm" aria-pressed={ring} onclick={() => (ring = !ring)}>Keys</button>
          <button
            class="btn btn-sm"
            onclick={() =>
              (selection = { archive: 0, q: "", entries: [], title: `All archives of ${app.game?.name}` })}
            >Take all out</button
          >
        {/if}
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
                    class="num w-full text-left {row.what === 'other' || row.what === 'companion'
                      ? 'text-quiet'
                      : ''} {row.path === path
                      ? 'border-l-[3px] border-primary'
                      : 'border-l-[3px] border-transparent'}"
                    style="padding-left: {8 + 18 * (row.inside ? row.path.split(' › ').length - 1 : 0)}px"
                    aria-pressed={row.path === path}
                    onclick={() => (path = row.path)}
                    >{row.inside ? `› ${row.path.split(" › ").at(-1)}` : row.path}</button
                  >
                </td>
                <td
                  class="max-w-72 truncate px-3 {row.error && row.what !== 'archive'
                    ? 'text-error'
                    : row.what === 'other' || row.what === 'companion'
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
      <p>
        {WORDS[file.what]}{file.layout ? `, read by ${file.layout}` : ""}
        {#if file.archive_id || !file.error}<span class="block text-quiet">{file.evidence}</span>{/if}
      </p>
      {#if file.archive_id || !file.error}
        <a class="btn btn-sm mt-2" href="#/{app.gameId}/bench/{encodeURIComponent(file.path)}"
          >{file.what === "other" ? "Describe it on the layout bench" : "Look at its bytes"}</a
        >
      {/if}
      {#if file.what === "other"}
        <a class="btn btn-sm mt-2" href="#/{app.gameId}/unknown/{encodeURIComponent(file.path)}"
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
