<script lang="ts">
  import { untrack } from "svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import PlannedFile from "../components/PlannedFile.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import ProofOfFile from "../components/ProofOfFile.svelte";
  import {
    api,
    asProblem,
    got,
    type Build,
    type BuiltFile,
    type FilePlan,
    type ProblemText,
    type Result,
    type Trial,
  } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { clock, count, spaced } from "../lib/format";
  import { player } from "../lib/player.svelte";
  import { itemOf } from "../lib/items";
  import { newest } from "../lib/newest";

  let plans = $state<FilePlan[]>([]);
  let planned = $state(0);
  let files = $state<BuiltFile[]>([]);
  let results = $state<Result[]>([]);
  let swapped = $state(0);
  let build = $state<Build | null>(null);
  let swaps = $state(false); // whether there are any
  let planProblem = $state<ProblemText | null>(null);
  let problem = $state<ProblemText | null>(null);
  let tight = $state(false);
  let deep = $state(false);
  let loops = $state(2);
  let loaded = $state(false);

  const mod_id = app.game!.mod_id;
  const job = $derived(app.openJobs.find((j) => j.kind === "rebuild"));
  const trialJob = $derived(app.openJobs.find((j) => j.kind === "trial"));
  let asked = $state(0);
  const planning = $derived(app.jobs.find((j) => j.id === asked));
  const lastRebuild = $derived(app.jobs.find((j) => j.kind === "rebuild"));

  const ask = newest();

  async function load() {
    const current = ask();
    const path = { mod_id };
    try {
      const found = await Promise.all([
        got(api.GET("/api/mods/{mod_id}/build", { params: { path } })).then((b) => b ?? null),
        got(api.GET("/api/mods/{mod_id}/swaps", { params: { path, query: { limit: 1 } } })),
      ]);
      const [files_, results_] = await Promise.all([filesOf(found[0], 0), resultsOf(found[0], 0)]);
      if (current()) {
        [build, swaps] = [found[0], found[1].length > 0];
        files = files_;
        [results, swapped] = [results_.rows, results_.total];
      }
    } catch (error) {
      problem = asProblem(error);
    }
    try {
      const found = await got(api.GET("/api/mods/{mod_id}/plan", { params: { path, query: { tight } } }));
      if (!current()) return;
      planProblem = null;
      if (found) {
        [plans, planned] = [found.rows, found.total];
      } else if (!planning || planning.state === "done") {
        const next = await got(api.POST("/api/mods/{mod_id}/plan", { params: { path }, body: { tight } }));
        if (!current()) return;
        asked = next.id;
        app.started(next); // the end of it brings the plan
      } else if (planning.state !== "waiting" && planning.state !== "running") {
        plans = [];
        planProblem = planning.error ?? {
          what: "Planning was cancelled.",
          where: "",
          next: "Open this screen again.",
        };
      }
    } catch (error) {
      if (!current()) return;
      plans = [];
      planProblem = asProblem(error);
    }
    loaded = true;
  }
  $effect(() => {
    void app.finished;
    void tight;
    untrack(load);
  });

  async function filesOf(of: Build | null, offset: number): Promise<BuiltFile[]> {
    if (!of) return [];
    const params = { path: { build_id: of.id }, query: { offset } };
    return (await got(api.GET("/api/builds/{build_id}/files", { params }))).rows;
  }

  async function resultsOf(of: Build | null, offset: number): Promise<{ rows: Result[]; total: number }> {
    if (!of) return { rows: [], total: 0 };
    const params = { path: { build_id: of.id }, query: { offset } };
    return got(api.GET("/api/builds/{build_id}/results", { params }));
  }

  /** The next page of a list; where it can't be had, the problem is shown. */
  async function more<T>(rows: T[], ask: () => Promise<T[]>) {
    try {
      rows.push(...(await ask()));
    } catch (error) {
      problem = asProblem(error);
    }
  }
  const moreFiles = () => more(files, () => filesOf(build, files.length));
  const moreResults = () => more(results, async () => (await resultsOf(build, results.length)).rows);
  const morePlans = () =>
    more(plans, async () => {
      const params = { path: { mod_id }, query: { tight, offset: plans.length } };
      return (await got(api.GET("/api/mods/{mod_id}/plan", { params })))?.rows ?? [];
    });

  async function rebuild() {
    problem = null;
    try {
      app.started(
        await got(
          api.POST("/api/mods/{mod_id}/rebuild", { params: { path: { mod_id } }, body: { tight, deep } }),
        ),
      );
    } catch (error) {
      problem = asProblem(error);
    }
  }

  async function tryIt(swap_id: number) {
    if (!build) return;
    problem = null;
    try {
      const { job } = await got(
        api.POST("/api/builds/{build_id}/trials", {
          params: { path: { build_id: build.id } },
          body: { swap_id, loops },
        }),
      );
      app.started(job);
    } catch (error) {
      problem = asProblem(error);
    }
  }

  function hearTrial(t: Trial) {
    const heard = { audio: t.audio, rate: t.rate, channels: t.channels, frames: t.frames, loop: null };
    player.load(
      {
        title: `Trial run: ${t.title.split(" › ").at(-1)}`,
        place: `trial ${t.id} of ${t.title}`,
        original: null,
        fresh: heard,
      },
      "new",
    );
    void player.start(0);
  }

  async function hearResult(swap_id: number, audio: string) {
    const swap = await app.attempt(api.GET("/api/swaps/{swap_id}", { params: { path: { swap_id } } }));
    if (!swap?.stream || !swap.new) return;
    const item = itemOf(swap.stream, swap);
    player.load(
      {
        ...item,
        title: `Rebuilt: ${item.title}`,
        place: `rebuilt ${item.place}`,
        fresh: { ...item.fresh!, audio },
      },
      "new",
    );
    void player.start(0);
  }
</script>

<div class="mx-auto max-w-6xl space-y-6 px-4 py-4">
  <div class="flex flex-wrap items-start justify-between gap-x-6 gap-y-3">
    <div class="min-w-64 flex-1">
      <h1 class="text-xl font-bold">Rebuild</h1>
      <p class="text-balance text-quiet">
        New files are written below Zubret's own data folder. The game's folder stays as it is.
      </p>
    </div>
    {#if plans.length}
      <div class="flex items-center gap-4">
        <label class="flex items-center gap-2" title="A shorter stream then leaves no free space behind">
          <input type="checkbox" class="checkbox checkbox-sm" bind:checked={tight} /> lay everything out afresh
        </label>
        <label
          class="flex items-center gap-2"
          title="Decodes the streams that nobody touched, too; takes longer"
        >
          <input type="checkbox" class="checkbox checkbox-sm" bind:checked={deep} /> prove deeper
        </label>
        {#if !job}
          <button class="btn {build?.fresh ? '' : 'btn-primary'}" onclick={rebuild}
            >{build?.fresh ? "Rebuild again" : "Rebuild and prove"}</button
          >
        {/if}
      </div>
    {/if}
  </div>
  {#if problem}<ProblemPanel {problem} close={() => (problem = null)} />{/if}
  {#if lastRebuild?.error}<ProblemPanel problem={lastRebuild.error} />{/if}
  {#if job}
    <JobPanel {job} />
  {/if}

  {#if !loaded}
    <p role="status" class="flex items-center gap-2 text-quiet">
      <span class="loading loading-spinner loading-sm"></span>Working out what will be written
    </p>
  {/if}
  {#if planning?.state === "running" || planning?.state === "waiting"}<JobPanel job={planning} />{/if}
  {#if planProblem && loaded}
    <div class="space-y-3">
      <ProblemPanel problem={planProblem} />
      <a class="btn btn-primary" href="#/{app.gameId}/{swaps ? 'swap' : 'locate'}"
        >{swaps ? "Go to Swap" : "Find a stream in Locate"}</a
      >
    </div>
  {/if}

  {#if plans.length}
    <section aria-label="What will be written">
      <h2 class="mb-2 font-semibold">What will be written</h2>
      {#each plans as plan (plan.path)}
        <PlannedFile {plan} />
      {/each}
      {#if plans.length < planned}
        <button class="btn btn-sm" onclick={() => morePlans()}
          >Show more ({spaced(plans.length)} of {spaced(planned)} files)</button
        >
      {/if}
    </section>
  {/if}

  {#if build?.points && !job}
    <section aria-label="Proof">
      <h2 class="font-semibold">
        {#if build.failed}<span class="text-error">■ {count(build.failed, "point")} failed</span>
        {:else if build.doubts}<span class="text-info"
            >▲ Proved, {count(build.doubts, "point")} to look at</span
          >
        {:else}<span class="text-success">✓ Proved</span>{/if}
        <span class="font-normal text-quiet">
          · {count(build.points, "point")}, read back from disk by a new process · {new Date(
            build.created,
          ).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" })}
          {build.fresh ? "" : "· out of date: the mod has changed since"}
        </span>
      </h2>
      <div class="mt-3 border-t border-line">
        {#each files as file (file.path)}<ProofOfFile build={build.id} {file} />{/each}
      </div>
      {#if files.length < build.files}
        <button class="btn btn-sm mt-3" onclick={() => moreFiles()}
          >Show more ({spaced(files.length)} of {spaced(build.files)} files)</button
        >
      {/if}
    </section>

    <section aria-label="Trial run">
      <div class="flex flex-wrap items-center gap-4">
        <h2 class="font-semibold">Trial run</h2>
        {#if !swapped}
          <p class="text-quiet">The stand-in plays swapped streams; this mod swaps none.</p>
        {:else if app.game?.player}
          <label class="flex items-center gap-2"
            >loops <input
              class="input input-sm num w-16"
              type="number"
              min="1"
              max="20"
              bind:value={loops}
            /></label
          >
        {:else}
          <p class="text-quiet">
            No stand-in plays this game: download the files and try them in the game itself.
          </p>
        {/if}
      </div>
      <ul class="mt-2">
        {#each results as r (r.swap_id)}
          <li class="flex flex-wrap items-center justify-between gap-3 border-b border-line py-2">
            <span class="num">{r.title}</span>
            <span class="flex gap-2">
              <button class="btn btn-sm" onclick={() => hearResult(r.swap_id, r.audio)}
                >Hear the rebuilt stream</button
              >
              {#if app.game?.player}
                <button class="btn btn-sm" disabled={!!trialJob} onclick={() => tryIt(r.swap_id)}
                  >Play it in {app.game.name}</button
                >
              {/if}
            </span>
          </li>
        {/each}
      </ul>
      {#if results.length < swapped}
        <button class="btn btn-sm mt-3" onclick={() => moreResults()}
          >Show more ({spaced(results.length)} of {spaced(swapped)} streams)</button
        >
      {/if}
      {#if trialJob}
        <p role="status" class="mt-3 flex items-center gap-2 text-quiet">
          <span class="loading loading-spinner loading-sm"></span>{trialJob.note || "starting the game"}
          <button class="btn btn-xs" onclick={() => app.cancel(trialJob)}>Cancel</button>
        </p>
      {/if}
      {#each build.trials.filter((t) => t.played !== null) as t (t.id)}
        <article class="mt-3 rounded-box bg-base-200 p-3" aria-label="Trial run {t.id}">
          <div class="flex flex-wrap items-center justify-between gap-3">
            <p>
              {#if t.played}<strong class="text-success">✓ played</strong>
                <span class="num text-quiet"
                  >{clock(t.frames / t.rate)} · {spaced(t.frames)} frames · {spaced(t.rate)} Hz</span
                >
              {:else}<strong class="text-error">■ refused</strong> {t.why}{/if}
            </p>
            {#if t.played}<button class="btn btn-sm" onclick={() => hearTrial(t)}>Listen</button>{/if}
          </div>
          <ol class="num mt-1 text-quiet">
            {#each t.log as line, i (i)}<li class="break-words">{line}</li>{/each}
          </ol>
        </article>
      {/each}
    </section>
  {/if}
</div>
