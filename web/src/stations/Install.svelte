<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import JobPanel from "../components/JobPanel.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import ComingFiles from "../install/ComingFiles.svelte";
  import Room from "../install/Room.svelte";
  import Strange from "../install/Strange.svelte";
  import { api, asProblem, attempted, got, type Build, type Forecast, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { count } from "../lib/format";
  import TrialRun from "../rebuild/TrialRun.svelte";
  import Ways from "../rebuild/Ways.svelte";

  /** The game's folder: what state it is in, what installing or restoring would do to it, and doing so. */
  const game_id = app.gameId;
  const path = { game_id };
  let problem = $state<ProblemText | null>(null);
  let thorough = $state(false);

  const found = createQuery(() => ({
    queryKey: ofGame(game_id, "install state", thorough),
    queryFn: () => got(api.GET("/api/games/{game_id}/install", { params: { path, query: { thorough } } })),
    staleTime: 0,
  }));
  const now = $derived(found.data);
  const isInstalled = $derived(now?.state === "installed");
  /** What the table shows: what restoring does where all is installed, what installing does else. */
  const back = $derived(isInstalled || !now?.build);
  const coming = createQuery(() => ({
    queryKey: ofGame(game_id, "install forecast", back, now?.build),
    queryFn: async (): Promise<Forecast | null> =>
      (await got(api.GET("/api/games/{game_id}/install/forecast", { params: { path, query: { back } } }))) ??
      null,
    enabled: !!now && now.state !== "away" && (!back || now.state !== "original"),
    staleTime: 0,
  }));
  const newest = createQuery(() => ({
    queryKey: ofGame(game_id, "build", true),
    queryFn: async (): Promise<Build | null> => {
      const params = { path: { mod_id: app.game!.mod_id }, query: { together: true } };
      return (await got(api.GET("/api/mods/{mod_id}/build", { params }))) ?? null;
    },
    staleTime: 0,
  }));

  const isOurs = (kind: string) => kind === "install" || kind === "restore";
  const job = $derived(app.openJobs.find((j) => isOurs(j.kind)));
  const last = $derived(app.jobs.find((j) => isOurs(j.kind)));
  const strange = $derived(now?.rows.filter((f) => f.state !== "installed" || !f.backup) ?? []);
  const SIGNS: Record<string, string> = {
    original: "○ Nothing is installed: the game is as it was.",
    installed: "● Installed, as the newest rebuild.",
    "out of date": "◐ Installed, but not as your mods are now.",
    changed: "■ Something else has changed what was installed.",
    away: "■ The game’s folder is not there now. Is its disk plugged in?",
    "cut off": "■ An install was cut off. Installing or restoring brings it to an end first.",
  };

  const start = (begun: Promise<Parameters<typeof app.started>[0]>) =>
    attempted(
      async () => app.started(await begun),
      (told) => (problem = told),
    );
  const install = () =>
    start(got(api.POST("/api/builds/{build_id}/install", { params: { path: { build_id: now!.build! } } })));
  const restore = () => start(got(api.POST("/api/games/{game_id}/restore", { params: { path } })));
</script>

<div class="mx-auto max-w-6xl space-y-5 px-4 py-4">
  <div class="flex flex-wrap items-start justify-between gap-x-6 gap-y-3">
    <div class="min-w-64 flex-1">
      <h1 class="text-xl font-bold">Install</h1>
      <p class="text-balance text-quiet">
        Only here is anything written into the game's folder. What is there now is kept, and comes back by one
        press.
      </p>
    </div>
    {#if now && !job}
      <div class="flex flex-wrap items-center gap-2">
        {#if now.state !== "original"}
          <button class="btn" onclick={restore}>Restore the original</button>
        {/if}
        {#if now.state === "out of date" && !now.build}
          <a class="btn btn-primary" href="#/{game_id}/rebuild">Rebuild first</a>
        {/if}
        {#if now.build && !isInstalled}
          <button class="btn btn-primary" disabled={!!coming.data?.warnings.length} onclick={install}
            >Install{now.state === "original" ? "" : " the new rebuild"}</button
          >
        {/if}
      </div>
    {/if}
  </div>
  {#if problem}<ProblemPanel {problem} close={() => (problem = null)} />{/if}
  {#if found.error}<ProblemPanel problem={asProblem(found.error)} />{/if}
  {#if last?.error}<ProblemPanel problem={last.error} />{/if}
  {#if job}<JobPanel {job} />{/if}

  {#if now}
    <section
      aria-label="State of the game"
      class="flex flex-wrap items-center gap-x-6 gap-y-2 rounded-box bg-base-200 p-4"
    >
      <div class="min-w-0 grow">
        <p class="font-semibold" role="status">
          {SIGNS[now.state]}
          {#if now.total}<span class="num font-normal text-quiet">{count(now.total, "file")}</span>{/if}
        </p>
        <p class="num break-words text-quiet">{app.game!.folder}</p>
        {#if now.total}<p class="num break-words text-quiet">originals: {now.originals}</p>{/if}
      </div>
      {#if now.total}
        <button
          class="btn btn-sm"
          disabled={found.isFetching}
          onclick={() => (thorough ? found.refetch() : (thorough = true))}
          >{found.isFetching && thorough
            ? "Reading …"
            : thorough
              ? "✓ Every byte was read"
              : "Read every byte"}</button
        >
      {/if}
    </section>
    {#if strange.length}<Strange files={strange} tell={(told) => (problem = told)} />{/if}

    {#if now.build || now.total}<Ways still tell={(told) => (problem = told)} />{/if}

    {#each coming.data?.warnings ?? [] as warning (warning.what + warning.where)}
      <ProblemPanel problem={warning} />
    {/each}
    {#if coming.data?.leftovers.length && !isInstalled}
      <details class="border-l-2 border-info pl-3">
        <summary class="cursor-pointer text-info"
          >▲ {count(coming.data.leftovers.length, "file")} in the game's folder {coming.data.leftovers
            .length === 1
            ? "looks"
            : "look"} as if somebody, or another tool, had put {coming.data.leftovers.length === 1
            ? "it"
            : "them"} aside</summary
        >
        <p class="text-quiet">
          If the game was changed before, get its own files first: what is kept now comes back when you
          restore.
        </p>
        <ul class="num">
          {#each coming.data.leftovers as path (path)}<li class="break-all">{path}</li>{/each}
        </ul>
      </details>
    {/if}
    {#if coming.error}<ProblemPanel problem={asProblem(coming.error)} />{/if}
    {#if coming.data?.total && !job}
      <section aria-label={back ? "What restoring does" : "What installing does"} class="space-y-3">
        <h2 class="font-semibold">{back ? "What restoring does" : "What installing does"}</h2>
        <Room forecast={coming.data} />
        <ComingFiles {back} build={now.build} />
      </section>
    {:else if !now.build && now.state === "original"}
      <div class="space-y-3">
        <p>There is nothing to install yet: a mod is rebuilt and proved first.</p>
        <a class="btn btn-primary" href="#/{game_id}/rebuild">Go to Rebuild</a>
      </div>
    {/if}
    {#if isInstalled && newest.data && !job}
      <TrialRun build={newest.data} installed tell={(told) => (problem = told)} />
    {/if}
  {/if}
</div>
