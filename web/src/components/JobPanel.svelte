<script lang="ts">
  import type { Job } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, duration } from "../lib/format";

  /** A running job, with the time it has taken and may take; with `sized` its numbers are bytes, and speed is shown. */
  let { job, sized = false }: { job: Job; sized?: boolean } = $props();
  const spent = $derived(job.started ? (Date.now() - Date.parse(job.started)) / 1000 : 0);
  const speed = $derived(spent > 1 ? job.done / spent : 0);
</script>

<div class="rounded-box bg-base-200 p-4" role="status">
  <div class="flex justify-between gap-3">
    <span>{job.note || (job.state === "waiting" ? "waiting for other work to end" : "beginning")}</span>
    <button class="btn btn-xs" onclick={() => app.cancel(job)}>Cancel</button>
  </div>
  <progress
    class="progress progress-primary mt-2 w-full"
    value={job.total ? job.done / job.total : undefined}
    max="1"
    aria-label={job.title}
  ></progress>
  {#if job.total}
    <p class="num mt-1 text-quiet">
      {sized
        ? `${bytes(job.done)} of ${bytes(job.total)}`
        : `${Math.floor((100 * job.done) / job.total)} %`}{sized && speed
        ? ` · ${bytes(Math.round(speed))}/s`
        : ""} · for {duration(spent)}{speed && job.done
        ? ` · about ${duration((job.total - job.done) / speed)} left`
        : ""}
    </p>
  {/if}
</div>
