<script lang="ts">
  import type { Job } from "../lib/api";
  import { app } from "../lib/app.svelte";

  let { job }: { job: Job } = $props();
</script>

<div class="rounded-box bg-base-200 p-4" role="status">
  <div class="flex justify-between gap-3">
    <span>{job.note || "waiting for the worker"}</span>
    <button class="btn btn-xs" onclick={() => app.cancel(job)}>Cancel</button>
  </div>
  <progress
    class="progress progress-primary mt-2 w-full"
    value={job.total ? job.done / job.total : undefined}
    max="1"
    aria-label={job.title}
  ></progress>
</div>
