<script lang="ts">
  import type { Job } from "../lib/api";
  import { bytes, count, spaced } from "../lib/format";
  import JobPanel from "./JobPanel.svelte";
  import ProblemPanel from "./ProblemPanel.svelte";

  /** How a job that takes something out goes, and what came of it. */
  interface Failure {
    target: string;
    source: string;
    what: string;
    next: string;
  }
  interface Result {
    files: number;
    skipped: number;
    bytes: number;
    failed: Failure[];
    failed_count: number;
    renamed: number;
    folder: string;
    download: string;
  }
  let {
    job,
    noun,
    again,
    sized = false,
  }: { job: Job; noun: string; again: () => void; sized?: boolean } = $props();
  const running = $derived(job.state === "running" || job.state === "waiting");
  const result = $derived(job.state === "done" ? (job.result as unknown as Result) : null);
</script>

{#if running}
  <JobPanel {job} {sized} />
{:else if result}
  <p>
    <strong class="text-success">✓ {count(result.files, "file")} written</strong>
    <span class="text-quiet"
      >· {bytes(result.bytes)}{result.skipped ? ` · ${spaced(result.skipped)} were whole already` : ""}</span
    >
  </p>
  {#if result.download}
    <a class="btn btn-primary" href="/api/jobs/{job.id}/file" download>Download {result.download}</a>
  {:else if result.folder}<p class="num text-quiet break-all">{result.folder}</p>{/if}
  {#if result.failed_count}
    <div>
      <p class="text-error">■ {count(result.failed_count, noun)} failed</p>
      <ul class="mt-1 max-h-56 overflow-auto">
        {#each result.failed as f (f.target)}
          <li class="border-b border-line py-1">
            <p class="num break-all">{f.source}</p>
            <p>{f.what} <span class="text-quiet">{f.next}</span></p>
          </li>
        {/each}
      </ul>
      <button class="btn btn-sm mt-2" onclick={again}>Try the failed ones again</button>
    </div>
  {/if}
{:else}
  <p>Taking out is {job.state}. What is whole stays; going on does not write it again.</p>
  {#if job.error}<ProblemPanel problem={job.error} />{/if}
  <button class="btn btn-primary" onclick={again}>Go on from here</button>
{/if}
