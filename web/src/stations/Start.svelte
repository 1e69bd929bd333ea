<script lang="ts">
  import Folder from "@lucide/svelte/icons/folder";
  import { api, foldersIn, asProblem, got, type Folders, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";

  let at = $state<Folders | null>(null);
  let problem = $state<ProblemText | null>(null);
  let busy = $state(false);

  async function open(path: string) {
    try {
      at = await foldersIn(path);
      problem = null;
    } catch (error) {
      problem = asProblem(error);
    }
  }
  void open("");

  async function choose() {
    if (!at?.path) return;
    busy = true;
    try {
      const game = await got(api.POST("/api/games", { body: { folder: at.path, name: "" } }));
      await app.loadGames();
      app.wake();
      app.go("survey", "", game.id);
    } catch (error) {
      problem = asProblem(error);
    }
    busy = false;
  }
</script>

<div class="mx-auto max-w-2xl p-8 max-md:p-4">
  <h1 class="text-2xl font-bold">Which game?</h1>
  <p class="mt-2 text-quiet">
    Choose the folder that the game is installed in. Zubret only reads it; rebuilt files go elsewhere.
  </p>
  {#if problem}<div class="mt-4"><ProblemPanel {problem} close={() => (problem = null)} /></div>{/if}
  {#if at}
    <div class="mt-5 flex items-center justify-between gap-3">
      <p class="num min-w-0 break-all">{at.path || "Folders that Zubret may read"}</p>
      {#if at.parent !== null}
        <button class="btn btn-sm shrink-0" onclick={() => open(at?.parent ?? "")}>Up</button>
      {/if}
    </div>
    <ul class="mt-2 max-h-96 overflow-auto border-y border-line">
      {#each at.rows as folder (folder.path)}
        <li class="border-b border-line last:border-0">
          <button
            class="flex h-[33px] w-full items-center gap-3 px-2 text-left hover:bg-base-200"
            onclick={() => open(folder.path)}><Folder size={15} class="text-quiet" />{folder.name}</button
          >
        </li>
      {:else}
        <li class="px-2 py-3 text-quiet">No folders in here.</li>
      {/each}
    </ul>
    <button class="btn btn-primary mt-5" disabled={!at.path || busy} onclick={choose}
      >{at.path ? `Survey this folder` : "Open a folder first"}</button
    >
  {/if}
</div>
