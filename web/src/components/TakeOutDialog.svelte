<script lang="ts" generics="Plan extends AnyPlan">
  import type { Snippet } from "svelte";
  import type { Job } from "../lib/api";
  import { count, spaced } from "../lib/format";
  import type { AnyPlan, TakingOut } from "../lib/takeout.svelte";
  import FolderField from "./FolderField.svelte";
  import Modal from "./Modal.svelte";
  import ProblemPanel from "./ProblemPanel.svelte";
  import TakenOut from "./TakenOut.svelte";

  /** A dialog that takes something out: the choice, where to, what it needs; then how it goes. */
  let {
    title,
    subtitle = "",
    width,
    noun,
    sized = false,
    out,
    choice,
    beside,
    needs,
    start,
    close,
  }: {
    title: string;
    subtitle?: string;
    width: string;
    /** What one of the things is called of which some may fail. */
    noun: string;
    /** Whether progress is told in bytes, too. */
    sized?: boolean;
    out: TakingOut<Plan>;
    choice?: Snippet;
    beside?: Snippet;
    needs: Snippet<[Plan]>;
    start: () => Promise<void>;
    close: () => void;
  } = $props();
  let modal: Modal;
  const plan = $derived(out.plan);
  const nowhere = $derived(out.into === "folder" && !out.folder.trim());
</script>

<Modal bind:this={modal} label={title} {width} tall onclose={close}>
  <div class="flex items-start justify-between gap-4">
    <div class="min-w-0">
      <h2 class="text-lg font-bold">{title}</h2>
      {#if subtitle}<p class="break-words text-quiet">{subtitle}</p>{/if}
    </div>
    <button class="btn btn-sm" onclick={() => modal.close()}
      >{out.running ? "Go on in the background" : "Close"}</button
    >
  </div>
  {#if !out.started}
    {@render choice?.()}
    <fieldset class="mt-4 flex flex-wrap gap-x-6 gap-y-1" aria-label="Where to">
      <label class="flex items-center gap-2"
        ><input type="radio" class="radio radio-sm" value="folder" bind:group={out.into} /> into a folder</label
      >
      <label class="flex items-center gap-2"
        ><input type="radio" class="radio radio-sm" value="zip" bind:group={out.into} /> as a ZIP download</label
      >
      {@render beside?.()}
    </fieldset>
    {#if out.into === "folder"}<FolderField bind:folder={out.folder} failed={(p) => (out.problem = p)} />{/if}
    {#if plan?.renamed}
      <details class="mt-3">
        <summary
          >■ {count(plan.renamed, "name")}{plan.looked < plan.files
            ? ` of the first ${spaced(plan.looked)}`
            : ""} had to be changed</summary
        >
        <ul class="num mt-1 max-h-32 overflow-auto text-quiet">
          {#each plan.notes as note (note.target)}<li class="break-all">{note.target}: {note.note}</li>{/each}
        </ul>
      </details>
    {/if}
    {#if out.problem}<div class="mt-3"><ProblemPanel problem={out.problem} /></div>{/if}
    <div
      class="sticky -bottom-5 -mx-5 -mb-5 mt-4 flex items-center justify-between gap-4 border-t border-line bg-base-100 px-5 py-3"
    >
      <p role="status" aria-label="What it needs">
        {#if plan}
          {@render needs(plan)}
          {#if !plan.fits}<span class="text-error">■ does not fit</span>{/if}
          {#if nowhere}<span class="block">Name an export folder, or take a ZIP download.</span>{/if}
        {/if}
      </p>
      <button
        class="btn btn-primary shrink-0"
        disabled={!plan?.fits || !plan.files || nowhere}
        onclick={start}>Take out {plan ? count(plan.files, "file") : ""}</button
      >
    </div>
  {:else}
    <div class="mt-4 space-y-3">
      {#if out.job}<TakenOut job={out.job} again={() => out.again()} {noun} {sized} />{/if}
      {#if out.problem}<ProblemPanel problem={out.problem} />{/if}
    </div>
  {/if}
</Modal>
