<script lang="ts">
  import Folder from "@lucide/svelte/icons/folder";
  import {
    api,
    asProblem,
    got,
    type Folders,
    type Job,
    type ProblemText,
    type TakeOutPlan,
  } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, count, spaced } from "../lib/format";
  import JobPanel from "./JobPanel.svelte";
  import ProblemPanel from "./ProblemPanel.svelte";

  /** What is taken out: chosen entries, an archive (0: the whole game) and a filter. */
  export interface Selection {
    archive: number;
    q: string;
    entries: number[];
    title: string;
  }
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
    zip: boolean;
  }

  let { selection, close }: { selection: Selection; close: () => void } = $props();
  let dialog: HTMLDialogElement;
  let plan = $state<TakeOutPlan | null>(null);
  let problem = $state<ProblemText | null>(null);
  let into = $state<"folder" | "zip">("folder");
  let flat = $state(false);
  let folder = $state("");
  let named = $state<string[]>([]);
  let at = $state<Folders | null>(null);
  let started = $state(0);

  const game_id = app.gameId;
  const job = $derived<Job | undefined>(app.jobs.find((j) => j.id === started));
  const running = $derived(!!job && (job.state === "running" || job.state === "waiting"));
  const result = $derived(job?.state === "done" ? (job.result as unknown as Result) : null);
  const body = $derived({
    archive: selection.archive,
    q: selection.q,
    entries: selection.entries,
    flat,
    folder: into === "folder" ? folder : "",
  });

  $effect(() => {
    dialog.showModal();
    void got(api.GET("/api/export-folders")).then((list) => {
      named = list;
      folder ||= list[0] ?? "";
    });
  });

  $effect(() => {
    const wanted = body;
    if (started) return;
    const timer = setTimeout(async () => {
      try {
        plan = await got(
          api.POST("/api/games/{game_id}/take-out/plan", { params: { path: { game_id } }, body: wanted }),
        );
        problem = null;
      } catch (error) {
        plan = null;
        problem = asProblem(error);
      }
    }, 150);
    return () => clearTimeout(timer);
  });

  async function browse(path: string) {
    try {
      at = await got(api.GET("/api/folders", { params: { query: { path } } }));
      if (path) folder = path;
    } catch (error) {
      problem = asProblem(error);
    }
  }

  async function begin(call: () => Promise<Job>) {
    problem = null;
    try {
      const next = await call();
      started = next.id;
      app.started(next);
    } catch (error) {
      problem = asProblem(error);
    }
  }
  const start = () =>
    begin(() => got(api.POST("/api/games/{game_id}/take-out", { params: { path: { game_id } }, body })));
  const again = () =>
    begin(() => got(api.POST("/api/jobs/{job_id}/again", { params: { path: { job_id: started } } })));
</script>

<dialog
  bind:this={dialog}
  aria-label="Take out"
  class="m-auto w-[38rem] max-w-[94vw] rounded-box border border-edge bg-base-100 p-5 text-base-content backdrop:bg-black/40"
  onclose={close}
>
  <div class="flex items-start justify-between gap-4">
    <div class="min-w-0">
      <h2 class="text-lg font-bold">Take out</h2>
      <p class="text-quiet break-words">{selection.title}</p>
    </div>
    <button class="btn btn-sm" onclick={() => dialog.close()}
      >{running ? "Go on in the background" : "Close"}</button
    >
  </div>
  {#if !started}
    <fieldset class="mt-4 flex gap-6" aria-label="Where to">
      <label class="flex items-center gap-2"
        ><input type="radio" class="radio radio-sm" value="folder" bind:group={into} /> into a folder</label
      >
      <label class="flex items-center gap-2"
        ><input type="radio" class="radio radio-sm" value="zip" bind:group={into} /> as a ZIP download</label
      >
      <label class="flex items-center gap-2"
        ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={flat} /> without folders</label
      >
    </fieldset>
    {#if into === "folder"}
      <div class="mt-3">
        <label class="block"
          ><span class="text-quiet">export folder; it is made if it is not there</span>
          <input class="input num mt-1 w-full" list="named-folders" bind:value={folder} /></label
        >
        <datalist id="named-folders"
          >{#each named as path (path)}<option value={path}></option>{/each}</datalist
        >
        {#if at}
          <ul class="mt-2 max-h-40 overflow-auto border-y border-line" aria-label="Folders">
            {#if at.parent !== null}
              <li>
                <button
                  class="w-full px-2 py-1 text-left hover:bg-base-200"
                  onclick={() => browse(at?.parent ?? "")}>↑ up</button
                >
              </li>
            {/if}
            {#each at.folders as f (f.path)}
              <li>
                <button
                  class="flex w-full items-center gap-2 px-2 py-1 text-left hover:bg-base-200"
                  onclick={() => browse(f.path)}><Folder size={14} class="text-quiet" />{f.name}</button
                >
              </li>
            {/each}
          </ul>
        {:else}
          <button class="btn btn-xs mt-2" onclick={() => browse("")}>Look for a folder …</button>
        {/if}
      </div>
    {/if}
    {#if plan}
      <p class="mt-4" aria-label="What it needs">
        <strong class="num">{spaced(plan.files)}</strong> files ·
        <strong class="num">{bytes(plan.bytes)}</strong>
        <span class="text-quiet">· the disk has {bytes(plan.free)} free</span>
        {#if !plan.fits}<span class="text-error">■ does not fit</span>{/if}
      </p>
      {#if plan.there}<p class="text-quiet">
          {spaced(plan.there)} are there already, from before; they are not written again.
        </p>{/if}
      {#if plan.renamed}
        <details class="mt-1">
          <summary>{count(plan.renamed, "name")} will be different</summary>
          <ul class="num mt-1 max-h-32 overflow-auto text-quiet">
            {#each plan.notes as note (note.target)}<li class="break-all">
                {note.target}: {note.note}
              </li>{/each}
          </ul>
        </details>
      {/if}
    {/if}
    {#if problem}<div class="mt-3"><ProblemPanel {problem} /></div>{/if}
    <div class="mt-4 flex justify-end">
      <button
        class="btn btn-primary"
        disabled={!plan?.fits || !plan.files || (into === "folder" && !folder.trim())}
        onclick={start}>Take out {plan ? count(plan.files, "file") : ""}</button
      >
    </div>
  {:else}
    <div class="mt-4 space-y-3">
      {#if running && job}
        <JobPanel {job} sized />
      {:else if result}
        <p>
          <strong class="text-success">✓ {count(result.files, "file")} written</strong>
          <span class="text-quiet"
            >· {bytes(result.bytes)}{result.skipped
              ? ` · ${spaced(result.skipped)} were whole already`
              : ""}</span
          >
        </p>
        {#if result.zip}
          <a class="btn btn-primary" href="/api/jobs/{started}/zip" download>Download the ZIP file</a>
        {:else}<p class="num text-quiet break-all">{result.folder}</p>{/if}
        {#if result.failed_count}
          <div>
            <p class="text-error">
              ■ {count(result.failed_count, "entry").replace("entrys", "entries")} failed
            </p>
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
      {:else if job}
        <p>Taking out is {job.state}. What is whole stays; going on does not write it again.</p>
        {#if job.error}<ProblemPanel problem={job.error} />{/if}
        <button class="btn btn-primary" onclick={again}>Go on from here</button>
      {/if}
      {#if problem}<ProblemPanel {problem} />{/if}
    </div>
  {/if}
</dialog>
