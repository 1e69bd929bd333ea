<script lang="ts">
  import Folder from "@lucide/svelte/icons/folder";
  import { api, foldersIn, asProblem, got, type Folders, type ProblemText } from "../lib/api";
  import { newest } from "../lib/newest";

  /** An export folder: typed, one that was named before, or found by looking. */
  let { folder = $bindable(), failed }: { folder: string; failed: (problem: ProblemText) => void } = $props();
  let named = $state<string[]>([]);
  let at = $state<Folders | null>(null);

  $effect(() => {
    void got(api.GET("/api/export-folders")).then((list) => {
      named = list.map((known) => known.path);
      folder ||= named[0] ?? "";
    });
  });

  const asking = newest();

  /** List a folder's folders. It is meant from now on, not from when it is listed. */
  async function browse(path: string) {
    const current = asking();
    if (path) folder = path;
    try {
      const found = await foldersIn(path);
      if (current()) at = found;
    } catch (error) {
      if (current()) failed(asProblem(error));
    }
  }
</script>

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
      {#each at.rows as f (f.path)}
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
