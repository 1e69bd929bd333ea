<script lang="ts">
  import { api, got, type TakeOutPlan } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { TakingOut } from "../lib/takeout.svelte";
  import { bytes, count, spaced } from "../lib/format";
  import FolderField from "./FolderField.svelte";
  import ProblemPanel from "./ProblemPanel.svelte";
  import TakenOut from "./TakenOut.svelte";

  /** What is taken out: chosen entries, an archive (0: the whole game) and a filter. */
  export interface Selection {
    archive: number;
    q: string;
    entries: number[];
    title: string;
  }
  let { selection, close }: { selection: Selection; close: () => void } = $props();
  let dialog: HTMLDialogElement;
  let into = $state<"folder" | "zip">("folder");
  let flat = $state(false);
  let folder = $state("");
  const out = new TakingOut<TakeOutPlan>();

  const game_id = app.gameId;
  const plan = $derived(out.plan);
  const body = $derived({
    archive: selection.archive,
    q: selection.q,
    entries: selection.entries,
    flat,
    folder: into === "folder" ? folder : "",
  });

  $effect(() => {
    dialog.showModal();
  });

  $effect(() => {
    const wanted = body;
    if (!out.started)
      return out.ask(() =>
        api.POST("/api/games/{game_id}/take-out/plan", { params: { path: { game_id } }, body: wanted }),
      );
  });

  const start = () =>
    out.begin(api.POST("/api/games/{game_id}/take-out", { params: { path: { game_id } }, body }));
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
      >{out.running ? "Go on in the background" : "Close"}</button
    >
  </div>
  {#if !out.started}
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
    {#if into === "folder"}<FolderField bind:folder failed={(p) => (out.problem = p)} />{/if}
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
    {#if out.problem}<div class="mt-3"><ProblemPanel problem={out.problem} /></div>{/if}
    <div class="mt-4 flex justify-end">
      <button
        class="btn btn-primary"
        disabled={!plan?.fits || !plan.files || (into === "folder" && !folder.trim())}
        onclick={start}>Take out {plan ? count(plan.files, "file") : ""}</button
      >
    </div>
  {:else}
    <div class="mt-4 space-y-3">
      {#if out.job}<TakenOut job={out.job} again={() => out.again()} noun="entry" sized />{/if}
      {#if out.problem}<ProblemPanel problem={out.problem} />{/if}
    </div>
  {/if}
</dialog>
