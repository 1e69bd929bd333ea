<script lang="ts">
  import JobPanel from "../components/JobPanel.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import type { Job, ProblemText } from "../lib/api";
  import { count, spaced } from "../lib/format";

  /** Whether the layout reads a file and gives it back, and what was tried: frames decoded, swaps there and back. */
  interface Checked {
    path: string;
    ok: boolean;
    items: number;
    decoded?: number;
    tried?: number;
    explained: number;
    problem?: ProblemText | null;
  }
  let { job, ready, check }: { job: Job | undefined; ready: boolean; check: (all: boolean) => void } =
    $props();

  const checked = $derived(((job?.result as { files?: Checked[] })?.files ?? []) as Checked[]);

  /** What a check has done, for one line behind the path. */
  function done(c: Checked): string {
    const told = [`${count(c.items, c.decoded ? "stream" : "item")}`];
    if (c.decoded) told.push(`${spaced(c.decoded)} frames decoded`);
    if (c.tried) told.push(`${count(c.tried, "swap")} there and back`);
    return [...told, `${(c.explained * 100).toFixed(1)} % explained`].join(" · ");
  }
</script>

<div class="flex gap-2">
  <button class="btn btn-sm" disabled={!ready} onclick={() => check(false)}>Check this file</button>
  <button class="btn btn-sm" disabled={!ready} onclick={() => check(true)}
    >Check every file it recognises</button
  >
</div>
<p class="mt-1 text-quiet">
  Reads all, unpacks or decodes it, writes it anew with nothing changed and compares byte for byte; then swaps
  some payloads for longer, shorter and equal ones, and back.
</p>
{#if job && (job.state === "running" || job.state === "waiting")}
  <JobPanel {job} />
{:else if job?.error}<ProblemPanel problem={job.error} />
{:else if job?.state === "done"}
  {#each checked as c (c.path)}
    <div class="mt-2">
      <p>
        {#if c.ok}<strong class="text-success">✓ gives back the identical file</strong>{:else}<strong
            class="text-error">■ does not hold</strong
          >{/if}
        <span class="num text-quiet">{c.path}{c.ok ? ` · ${done(c)}` : ""}</span>
      </p>
      {#if c.problem}<ProblemPanel problem={c.problem} />{/if}
    </div>
  {:else}<p class="mt-2 text-quiet">No file of this game is recognised by the layout.</p>{/each}
{/if}
