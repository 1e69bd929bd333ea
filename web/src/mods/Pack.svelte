<script lang="ts">
  import JobPanel from "../components/JobPanel.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, attempted, got, type Mod, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, count } from "../lib/format";

  /** A mod packed for others. */
  let { mod }: { mod: Mod } = $props();
  let problem = $state<ProblemText | null>(null);
  let begun = $state(0);

  const job = $derived(app.jobs.find((j) => j.id === begun));
  const running = $derived(job?.state === "waiting" || job?.state === "running");
  const result = $derived(job?.state === "done" ? (job.result as Record<string, number | string>) : null);
  const pack = () =>
    attempted(
      async () => {
        const path = { mod_id: mod.id };
        const started = await got(api.POST("/api/mods/{mod_id}/package", { params: { path } }));
        begun = started.id;
        app.started(started);
      },
      (told) => (problem = told),
    );
</script>

<div class="flex flex-wrap items-center gap-x-4 gap-y-2">
  {#if !running}
    <button class="btn btn-sm" onclick={pack}>Pack it for others</button>
  {/if}
  {#if result}
    <a class="btn btn-sm btn-primary" href="/api/jobs/{job!.id}/file" download>Download {result.download}</a>
    <span class="text-quiet"
      ><span class="num">{bytes(Number(result.bytes))}</span>: {count(Number(result.swaps), "swap")}, {count(
        Number(result.files),
        "file",
      )}, and no byte of the game</span
    >
  {:else if !running}
    <span class="text-quiet"
      >One file with your new sound and how it goes in, without the game's own data.</span
    >
  {/if}
</div>
{#if job && running}<JobPanel {job} />{/if}
{#if problem}<ProblemPanel {problem} close={() => (problem = null)} />{/if}
{#if job?.error}<ProblemPanel problem={job.error} />{/if}
