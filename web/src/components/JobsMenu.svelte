<script lang="ts">
  import type { Job } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { closing } from "../lib/closing";
  import { duration } from "../lib/format";
  import SendingFiles from "../lines/SendingFiles.svelte";
  import { sending } from "../lines/sending.svelte";
  import ProblemPanel from "./ProblemPanel.svelte";

  let open = $state(false);
  const running = $derived(app.openJobs.length + (sending.total ? 1 : 0));
  /** Tidying up is told of only where it fails. */
  const told = $derived(app.jobs.filter((j) => j.kind !== "tidy" || j.error));
  const failed = $derived(app.jobs.slice(0, 8).filter((j) => j.error));

  /** When a job began, and how long it took. */
  function times(job: Job): string {
    if (!job.started) return "has not begun";
    const at = new Date(job.started).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" });
    const until = job.finished ? Date.parse(job.finished) : Date.now();
    const seconds = Math.max(0, until - Date.parse(job.started)) / 1000;
    const took = seconds < 1 ? "less than a second" : duration(seconds);
    return job.finished ? `began ${at}, took ${took}` : `began ${at}, for ${took}`;
  }

  /** What came of it, where its state does not say it. */
  function outcome(job: Job): string {
    const stands = job.kind === "survey" && job.state === "done" && job.result.found === null;
    return stands ? "; nothing has changed, the last survey stands" : "";
  }

  function share(job: Job): number | undefined {
    return job.total ? job.done / job.total : undefined;
  }
</script>

<div class="relative">
  <button class="btn btn-sm h-8" aria-haspopup="true" aria-expanded={open} onclick={() => (open = !open)}>
    {#if running}<span class="loading loading-spinner loading-xs text-primary"></span>{/if}
    {running ? `${running} job${running > 1 ? "s" : ""}` : "Jobs"}
  </button>
  {#if open}
    <!-- It scrolls where there are many: then arrow keys want to reach it. -->
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <section
      use:closing={() => (open = false)}
      aria-label="Jobs"
      tabindex="0"
      class="absolute top-full right-0 z-30 mt-1 max-h-[70vh] w-96 max-w-[94vw] overflow-auto rounded-box border border-edge bg-base-200 p-3 shadow-lg"
    >
      <SendingFiles />
      {#each told.slice(0, 12) as job (job.id)}
        <div class="border-b border-line py-2 last:border-0">
          <div class="flex items-center justify-between gap-2">
            <span class="font-medium">{job.title}</span>
            {#if job.state === "running" || job.state === "waiting"}
              <button class="btn btn-xs" onclick={() => app.cancel(job)}>Cancel</button>
            {:else}<span class={job.state === "failed" ? "text-error" : "text-quiet"}>{job.state}</span>{/if}
          </div>
          <p class="text-quiet">{times(job)}{outcome(job)}</p>
          {#if job.state === "done" && job.result.download}
            <a class="link" href="/api/jobs/{job.id}/file" download>Download {job.result.download}</a>
          {/if}
          {#if job.state === "running"}
            <progress
              class="progress progress-primary mt-1 w-full"
              value={share(job)}
              max="1"
              aria-label={job.title}
            ></progress>
            <p class="text-quiet">{job.note}</p>
          {/if}
        </div>
      {:else}
        <p class="text-quiet">Nothing has run yet.</p>
      {/each}
      {#each failed as job (job.id)}
        {#if job.error}<div class="mt-2"><ProblemPanel problem={job.error} /></div>{/if}
      {/each}
    </section>
  {/if}
</div>
