<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { untrack } from "svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, asProblem, attempted, got, type FilePlan, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { spaced } from "../lib/format";
  import { growing } from "../lib/growing.svelte";
  import PlannedFile from "../rebuild/PlannedFile.svelte";
  import Proof from "../rebuild/Proof.svelte";
  import TrialRun from "../rebuild/TrialRun.svelte";
  import Ways from "../rebuild/Ways.svelte";

  const game_id = app.gameId;
  const path = { mod_id: app.game!.mod_id };
  let problem = $state<ProblemText | null>(null);
  /** Whether all mods that are on are rebuilt as one, where there are several; else the one that is worked on. */
  let alone = $state(false);
  const several = createQuery(() => ({
    queryKey: ofGame(game_id, "mods"),
    queryFn: () => got(api.GET("/api/games/{game_id}/mods", { params: { path: { game_id } } })),
    staleTime: 0,
  }));
  const on = $derived(several.data?.filter((m) => m.used) ?? []);
  const worked = $derived(several.data?.find((m) => m.current));
  /** Whether there is a choice: it makes no difference where the only one that is on is worked on. */
  const choice = $derived(!!worked && (on.length !== 1 || on[0]!.id !== worked.id));
  const together = $derived(choice && !alone);
  let tight = $state(false);
  let deep = $state(false);
  let asked = $state(0); // the planning that this screen has begun

  const job = $derived(app.openJobs.find((j) => j.kind === "rebuild"));
  const lastRebuild = $derived(app.jobs.find((j) => j.kind === "rebuild"));
  const planning = $derived(app.jobs.find((j) => j.id === asked));
  const open = $derived(planning?.state === "waiting" || planning?.state === "running");

  // A mod changes on other screens: what is kept of it is asked for anew when this one is opened.
  const found = createQuery(() => ({
    queryKey: ofGame(game_id, "build", together),
    queryFn: async () =>
      (await got(api.GET("/api/mods/{mod_id}/build", { params: { path, query: { together } } }))) ?? null,
    enabled: !!several.data,
    staleTime: 0,
  }));
  const build = $derived(found.data);
  const first = createQuery(() => ({
    queryKey: ofGame(game_id, "first swap"),
    queryFn: () => got(api.GET("/api/mods/{mod_id}/swaps", { params: { path, query: { limit: 1 } } })),
    staleTime: 0,
  }));
  const plans = growing<FilePlan>(() => ({
    key: ofGame(game_id, "plan", tight, together),
    ask: async (offset) =>
      (await got(
        api.GET("/api/mods/{mod_id}/plan", { params: { path, query: { tight, together, offset } } }),
      )) ?? null,
  }));

  // Where the mod was not planned as it is now, that is begun; its end brings the plan. What failed is not begun again.
  $effect(() => {
    void plans.answered;
    if (!several.data || !plans.none || !plans.settled) return;
    untrack(() => {
      if (!planning || planning.state === "done") void attempted(plan, (told) => (problem = told));
    });
  });

  async function plan() {
    const begun = await got(
      api.POST("/api/mods/{mod_id}/plan", { params: { path }, body: { tight, together } }),
    );
    asked = begun.id;
    app.started(begun);
  }

  const planProblem = $derived.by((): ProblemText | null => {
    if (plans.error) return asProblem(plans.error);
    if (!planning || open || planning.state === "done") return null;
    return planning.error ?? { what: "Planning was cancelled.", where: "", next: "Open this screen again." };
  });
  const looking = $derived(!planProblem && !problem && !plans.rows.length && !open);

  const rebuild = () =>
    attempted(
      async () =>
        app.started(
          await got(
            api.POST("/api/mods/{mod_id}/rebuild", { params: { path }, body: { tight, deep, together } }),
          ),
        ),
      (told) => (problem = told),
    );
</script>

<div class="mx-auto max-w-6xl space-y-6 px-4 py-4">
  <div class="flex flex-wrap items-start justify-between gap-x-6 gap-y-3">
    <div class="min-w-64 flex-1">
      <h1 class="text-xl font-bold">Rebuild</h1>
      <p class="text-balance text-quiet">
        New files are written below Zubret's own data folder. The game's folder stays as it is.
        {#if together && on.length}<a class="underline" href="#/{game_id}/mods"
            >{on.map((m) => m.name).join(" + ")}</a
          >{/if}
      </p>
    </div>
    {#if choice}
      <label class="flex items-center gap-2">
        <span class="text-quiet">what</span>
        <select class="select select-sm w-60" bind:value={alone} aria-label="What is rebuilt">
          <option value={false}>all mods that are on ({on.length})</option>
          <option value={true}>{worked!.name} alone</option>
        </select>
      </label>
    {/if}
    {#if (plans.rows.length || asked) && !planProblem}
      <div class="ml-auto flex flex-wrap items-center gap-x-4 gap-y-2">
        <label class="flex items-center gap-2" title="A shorter stream then leaves no free space behind">
          <input type="checkbox" class="checkbox checkbox-sm" bind:checked={tight} /> lay everything out afresh
        </label>
        <label
          class="flex items-center gap-2"
          title="Decodes the streams that nobody touched, too; takes longer"
        >
          <input type="checkbox" class="checkbox checkbox-sm" bind:checked={deep} /> prove deeper
        </label>
        {#if !job && plans.rows.length}
          <button class="btn {build?.fresh ? '' : 'btn-primary'}" onclick={rebuild}
            >{build?.fresh ? "Rebuild again" : "Rebuild and prove"}</button
          >
        {/if}
      </div>
    {/if}
  </div>
  {#if problem}<ProblemPanel {problem} close={() => (problem = null)} />{/if}
  {#if lastRebuild?.error}<ProblemPanel problem={lastRebuild.error} />{/if}
  {#if job}<JobPanel {job} />{/if}
  {#if (plans.rows.length || asked) && !job}<Ways tell={(told) => (problem = told)} />{/if}

  {#if looking}
    <p role="status" class="flex items-center gap-2 text-quiet">
      <span class="loading loading-spinner loading-sm"></span>Working out what will be written
    </p>
  {/if}
  {#if planning && open}<JobPanel job={planning} />{/if}
  {#if planProblem}
    <div class="space-y-3">
      <ProblemPanel problem={planProblem} />
      <a class="btn btn-primary" href="#/{game_id}/{first.data?.length ? 'swap' : 'locate'}"
        >{first.data?.length ? "Go to Swap" : "Find a stream in Locate"}</a
      >
    </div>
  {:else if plans.rows.length}
    <section aria-label="What will be written">
      <h2 class="mb-2 font-semibold">What will be written</h2>
      {#each plans.rows as plan (plan.path)}
        <PlannedFile {plan} />
      {/each}
      {#if plans.rows.length < plans.total}
        <button class="btn btn-sm" onclick={plans.more}
          >Show more ({spaced(plans.rows.length)} of {spaced(plans.total)} files)</button
        >
      {/if}
    </section>
  {/if}

  {#if build?.points && !job}
    <Proof {build} />
    <TrialRun {build} tell={(told) => (problem = told)} />
  {/if}
</div>
