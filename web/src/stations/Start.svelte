<script lang="ts">
  import Folder from "@lucide/svelte/icons/folder";
  import { api, foldersIn, asProblem, got, type Folders, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { newest } from "../lib/newest";
  import LetRead from "../components/LetRead.svelte";
  import LikelyGames from "../components/LikelyGames.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";

  let at = $state<Folders | null>(null);
  let text = $state("");
  let problem = $state<ProblemText | null>(null);
  let opening = $state(false);
  let busy = $state(false);
  const asking = newest();
  /** Whether the folder that is listed is the one that was named or pressed last. */
  const ready = $derived(!!at?.path && !opening && text.trim() === at.path);
  let field: HTMLInputElement;

  /** Where this leads: a folder that may be read is listed; one outside is asked about. */
  async function open(path: string) {
    const current = asking();
    const before = text;
    opening = true;
    try {
      const found = await foldersIn(path);
      if (!current()) return;
      at = found;
      if (text === before) text = at.path; // nobody has typed on
      problem = null;
    } catch (error) {
      if (!current()) return;
      problem = asProblem(error);
    }
    opening = false;
  }
  void open("").then(() => field?.focus());

  async function choose() {
    if (!at || !ready) return;
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

<div class="mx-auto max-w-5xl p-8 max-md:p-4">
  <h1 class="text-2xl font-bold">Which game?</h1>
  <p class="mt-2 text-quiet">
    Paste or choose the folder that the game is installed in. Zubret reads it; into it goes nothing before you
    press Install.
  </p>
  {#if problem}<div class="mt-4"><ProblemPanel {problem} close={() => (problem = null)} /></div>{/if}
  <div class="mt-5 grid grid-cols-[1.2fr_1fr] gap-8 max-md:grid-cols-1">
    <div class="min-w-0">
      <form
        onsubmit={(e) => {
          e.preventDefault();
          void open(text);
        }}
      >
        <label class="block font-semibold" for="game-folder">Folder of the game</label>
        <div class="mt-2 flex gap-2">
          <input
            bind:this={field}
            id="game-folder"
            class="input num w-full"
            spellcheck="false"
            autocomplete="off"
            placeholder="a path as you copied it, or of a file in it"
            bind:value={text}
          />
          <button class="btn" disabled={!text.trim()}>Open</button>
        </div>
      </form>
      {#if at?.outside}
        <div class="mt-4">
          <LetRead
            path={at.path}
            allowed={() => void open(at?.path ?? "")}
            refused={() => void open("").then(() => field.focus())}
            failed={(p) => (problem = p)}
          />
        </div>
      {:else if at}
        <div class="mt-4 flex min-h-8 items-center justify-between gap-3">
          <p class="num min-w-0 break-all">{at.path || "Folders that Zubret may read"}</p>
          {#if at.parent !== null}
            <button class="btn btn-sm shrink-0" onclick={() => open(at?.parent ?? "")}>Up</button>
          {/if}
        </div>
        <ul
          class={["mt-2 max-h-80 overflow-auto border-y border-line", opening && "opacity-60"]}
          aria-label="Folders"
          aria-busy={opening}
        >
          {#each at.rows as folder (folder.path)}
            <li class="border-b border-line last:border-0">
              <button
                class="flex h-[33px] w-full items-center gap-3 px-2 text-left hover:bg-base-200"
                onclick={() => open(folder.path)}
                ><Folder size={15} class="shrink-0 text-quiet" /><span class="truncate">{folder.name}</span
                ></button
              >
            </li>
          {:else}
            <li class="px-2 py-3 text-quiet">No folders in here.</li>
          {/each}
        </ul>
        <div class="mt-5 flex items-center justify-between gap-3">
          <button class="btn btn-primary" disabled={!ready || busy} onclick={choose}
            >{at.path && text.trim() === at.path ? "Survey this folder" : "Open a folder first"}</button
          >
          <a class="link text-quiet" href="#/settings">Settings</a>
        </div>
      {/if}
    </div>
    <div class="min-w-0"><LikelyGames choose={open} failed={(p) => (problem = p)} /></div>
  </div>
</div>
