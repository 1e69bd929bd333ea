<script lang="ts">
  import { untrack } from "svelte";
  import ByteRibbon from "../components/ByteRibbon.svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import {
    api,
    asProblem,
    every,
    got,
    type Build,
    type FilePlan,
    type ProblemText,
    type Swap,
    type Trial,
  } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, clock, count, spaced } from "../lib/format";
  import { player } from "../lib/player.svelte";
  import { itemOf } from "../lib/items";
  import { newest } from "../lib/newest";

  let plans = $state<FilePlan[]>([]);
  let build = $state<Build | null>(null);
  let swaps = $state<Swap[]>([]);
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
  const bad = $derived(build?.proof.filter((p) => !p.ok).length ?? 0);
  const doubts = $derived(build?.proof.filter((p) => p.doubt).length ?? 0);
  const files = $derived([...new Set(build?.proof.map((p) => p.file))]);

  const ask = newest();

  async function load() {
    const current = ask();
    const path = { mod_id };
    try {
      const found = await Promise.all([
        got(api.GET("/api/mods/{mod_id}/build", { params: { path } })).then((b) => b ?? null),
        every((query) => got(api.GET("/api/mods/{mod_id}/swaps", { params: { path, query } }))),
      ]);
      if (current()) [build, swaps] = found;
    } catch (error) {
      problem = asProblem(error);
    }
    try {
      const found = await got(api.GET("/api/mods/{mod_id}/plan", { params: { path, query: { tight } } }));
      if (!current()) return;
      planProblem = null;
      if (found) {
        plans = found;
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

  function hearResult(swap_id: number, audio: string) {
    const swap = swaps.find((s) => s.id === swap_id);
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
      <a class="btn btn-primary" href="#/{app.gameId}/{swaps.length ? 'swap' : 'locate'}"
        >{swaps.length ? "Go to Swap" : "Find a stream in Locate"}</a
      >
    </div>
  {/if}

  {#if plans.length}
    <section aria-label="What will be written">
      <h2 class="mb-2 font-semibold">What will be written</h2>
      {#each plans as plan (plan.path)}
        <div class="mb-4 rounded-box bg-base-200 p-4">
          <div class="flex flex-wrap justify-between gap-3">
            <p class="num font-semibold">{plan.path}</p>
            <p>
              {plan.note
                ? plan.note
                : !plan.moved
                  ? "every other entry stays in its place"
                  : `${count(plan.moved, "entry")} of ${spaced(plan.entries)} moved`}
              · <span class="num">{bytes(plan.size_before)} → {bytes(plan.size)}</span>
            </p>
          </div>
          <ul class="num mt-1 text-quiet">
            {#each plan.streams as stream (stream)}<li>{stream}</li>{/each}
            {#each plan.files as file (file.place)}
              <li>{file.place}, {file.adds ? "added" : "replaced"} as a whole</li>
            {/each}
          </ul>
          {#if plan.suspects?.length}
            <div role="note" class="mt-3 border-l-2 border-info pl-3">
              <p class="text-info">
                ▲ {count(plan.suspects.length, "number")} that this layout does not tie would go on saying old places
              </p>
              <ul class="mt-1 space-y-1">
                {#each plan.suspects as s, i (i)}
                  <li>
                    <span class="num">{s.file} · {s.place}</span>: {s.evidence}.
                    <span class="text-quiet">To tie it:</span> <code class="num break-all">{s.line}</code>
                  </li>
                {/each}
              </ul>
              <p class="mt-1 text-quiet">
                Correct the layout on the bench before you rebuild, or the game may read from the wrong place.
              </p>
            </div>
          {/if}
          {#if !plan.note.startsWith("a list")}<div class="mt-3 grid grid-cols-[52px_1fr] gap-x-3 gap-y-2">
              <span class="text-quiet">before</span>
              <ByteRibbon
                ribbon={plan.before}
                label="{plan.path} before"
                scale={Math.max(plan.size, plan.size_before)}
              />
              <span class="text-quiet">after</span>
              <ByteRibbon
                ribbon={plan.after}
                label="{plan.path} after"
                scale={Math.max(plan.size, plan.size_before)}
              />
            </div>{/if}
        </div>
      {/each}
    </section>
  {/if}

  {#if build?.proof.length && !job}
    <section aria-label="Proof">
      <h2 class="font-semibold">
        {#if bad}<span class="text-error">■ {count(bad, "point")} failed</span>
        {:else if doubts}<span class="text-info">▲ Proved, {count(doubts, "point")} to look at</span>
        {:else}<span class="text-success">✓ Proved</span>{/if}
        <span class="font-normal text-quiet">
          · {count(build.proof.length, "point")}, read back from disk by a new process · {new Date(
            build.created,
          ).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" })}
          {build.fresh ? "" : "· out of date: the mod has changed since"}
        </span>
      </h2>
      {#each files as file, n (file)}
        <div class="mt-3 flex items-center justify-between gap-3">
          <p class="num">{file}</p>
          <a class="btn btn-sm" href="/api/builds/{build.id}/files/{n}" download
            >Download {bytes(build.files[n]?.size ?? 0)}</a
          >
        </div>
        <div class="overflow-x-auto">
          <table class="mt-1 w-full min-w-[720px] table-fixed" aria-label="Proof of {file}">
            <thead>
              <tr class="border-y border-line text-left text-quiet">
                <th class="w-[36%] py-1 pr-3 font-normal">point</th>
                <th class="w-[17%] px-3 font-normal">expected</th>
                <th class="px-3 font-normal">found</th>
                <th class="w-28 pl-3 font-normal">verdict</th>
              </tr>
            </thead>
            <tbody>
              {#each build.proof.filter((p) => p.file === file) as p, i (i)}
                <tr class="border-b border-line">
                  <td class="py-1 pr-3">{p.label}</td>
                  <td class="num px-3 py-1 text-quiet">{p.expected}</td>
                  <td class="num px-3 py-1">{p.found}</td>
                  <td
                    class="pl-3 whitespace-nowrap {!p.ok
                      ? 'text-error'
                      : p.doubt
                        ? 'text-info'
                        : 'text-success'}">{!p.ok ? "■ fails" : p.doubt ? "▲ look at it" : "✓ holds"}</td
                  >
                </tr>
              {/each}
            </tbody>
          </table>
        </div>
      {/each}
    </section>

    <section aria-label="Trial run">
      <div class="flex flex-wrap items-center gap-4">
        <h2 class="font-semibold">Trial run</h2>
        {#if !build.results.length}
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
        {#each build.results as r (r.swap_id)}
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
