<script lang="ts">
  import { api, asProblem, got, type ProblemText, type Stream } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import ProblemPanel from "./ProblemPanel.svelte";

  /** A stream as a file of several kinds: downloaded at once, or made by a job first where encoding takes long. */
  let { stream, kinds }: { stream: Stream; kinds: (readonly [kind: string, label: string])[] } = $props();

  let asked = $state<{ job: number; kind: string; stream: number } | null>(null);
  let problem = $state<ProblemText | null>(null);
  const job = $derived(asked?.stream === stream.id ? app.jobs.find((j) => j.id === asked?.job) : undefined);
  const running = $derived(job?.state === "running" || job?.state === "waiting");

  async function begin(kind: string): Promise<void> {
    problem = null;
    try {
      const path = { stream_id: stream.id };
      const begun = await got(
        api.POST("/api/streams/{stream_id}/export", { params: { path, query: { kind } } }),
      );
      asked = { job: begun.id, kind, stream: stream.id };
      app.started(begun);
    } catch (error) {
      problem = asProblem(error);
    }
  }

  $effect(() => {
    if (!job || running) return;
    const failed = (job.result.failed as ProblemText[] | undefined)?.[0];
    if (job.state === "done" && job.result.download) location.assign(`/api/jobs/${job.id}/file`);
    else problem = job.error ?? failed ?? null;
    asked = null;
  });
</script>

<div class="flex flex-wrap gap-1.5" role="group" aria-label="Take out">
  {#each kinds as [kind, label] (kind)}
    {#if stream.at_once.includes(kind)}
      <a class="btn btn-sm grow" href="/api/streams/{stream.id}/export?kind={kind}" download>{label}</a>
    {:else}
      <button
        class="btn btn-sm grow"
        disabled={running}
        title="Encoding it takes some seconds; the file is downloaded when it is done."
        onclick={() => begin(kind)}
        >{#if running && asked?.kind === kind}<span class="loading loading-spinner loading-xs"></span>{/if}
        {label}</button
      >
    {/if}
  {/each}
</div>
{#if running && job}
  <p class="flex items-center justify-between gap-2 text-quiet" aria-live="polite">
    <span class="min-w-0 truncate">{job.note || "Waiting for its turn"}</span>
    <button class="btn btn-xs" onclick={() => job && app.cancel(job)}>Cancel</button>
  </p>
{/if}
{#if problem}<ProblemPanel {problem} />{/if}
