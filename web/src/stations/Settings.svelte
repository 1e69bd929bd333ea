<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { api, asProblem, attempted, every, got } from "../lib/api";
  import type { AllowedFolder, ExportFolder, Forgotten, ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { cache } from "../lib/cache";
  import { count } from "../lib/format";

  let text = $state("");
  let failed = $state<ProblemText | null>(null);

  const SETTINGS = ["settings"];
  /** Whether a folder is there, and what can still be brought back, is looked up whenever the page is opened. */
  const NOW = { staleTime: 0, meta: { shown: true } };
  const readable = createQuery(() => ({
    queryKey: [...SETTINGS, "readable"],
    queryFn: () => every((query) => got(api.GET("/api/allowed-folders", { params: { query } }))),
    ...NOW,
  }));
  const written = createQuery(() => ({
    queryKey: [...SETTINGS, "written"],
    queryFn: () => every((query) => got(api.GET("/api/export-folders", { params: { query } }))),
    ...NOW,
  }));
  const forgotten = createQuery(() => ({
    queryKey: [...SETTINGS, "forgotten"],
    queryFn: () => every((query) => got(api.GET("/api/forgotten-games", { params: { query } }))),
    ...NOW,
  }));
  const plugIns = createQuery(() => ({
    queryKey: [...SETTINGS, "plug-ins"],
    queryFn: () => got(api.GET("/api/plug-ins")),
    ...NOW,
  }));
  const error = $derived(readable.error ?? written.error ?? forgotten.error ?? plugIns.error);
  const problem = $derived(failed ?? (error ? asProblem(error) : null));

  /** A change, and what stands then; where it fails, the problem is shown, and all is as it was. */
  async function change(work: () => Promise<unknown>): Promise<boolean> {
    const done = await attempted(
      () => work().then(() => true),
      (p) => (failed = p),
    );
    if (done) await cache.invalidateQueries({ queryKey: SETTINGS });
    return !!done;
  }

  const allow = (path: string) => change(() => got(api.POST("/api/allowed-folders", { body: { path } })));

  async function forbid(folder: AllowedFolder) {
    if (folder.id === null) return;
    const path = { folder_id: folder.id };
    if (await change(() => got(api.DELETE("/api/allowed-folders/{folder_id}", { params: { path } }))))
      app.say(`Zubret no longer reads ${folder.path}.`, {
        label: "Undo",
        run: () => void allow(folder.path),
      });
  }

  async function bringBack(game: Forgotten) {
    const path = { game_id: game.id };
    if (await change(() => got(api.POST("/api/forgotten-games/{game_id}", { params: { path } })))) {
      await app.loadGames();
      app.go("survey", "", game.id);
    }
  }

  async function forget(folder: ExportFolder) {
    const path = { folder_id: folder.id };
    await change(() => got(api.DELETE("/api/export-folders/{folder_id}", { params: { path } })));
  }
</script>

<div class="mx-auto max-w-3xl p-8 max-md:p-4">
  <h1 class="text-2xl font-bold">Settings</h1>
  {#if problem}<div class="mt-4">
      <ProblemPanel {problem} close={failed ? () => (failed = null) : undefined} />
    </div>{/if}

  <section class="mt-6" aria-labelledby="readable">
    <h2 id="readable" class="text-lg font-semibold">Folders that Zubret may read</h2>
    <p class="mt-1 text-quiet">
      Games are chosen in these folders and in all that is inside them. Only installing writes into a game.
    </p>
    <ul class="mt-3 border-y border-line">
      {#each readable.data ?? [] as folder (folder.path)}
        <li
          class="flex min-h-11 items-center justify-between gap-4 border-b border-line px-2 py-1.5 last:border-0"
        >
          <span class="min-w-0">
            <span class="num block break-all">{folder.path}</span>
            <span class="text-quiet"
              >{folder.games ? count(folder.games, "game") : "no game yet"}{folder.there
                ? ""
                : " · can't be looked into now"}</span
            >
          </span>
          {#if folder.id === null}
            <span
              class="shrink-0 text-quiet"
              title="By ZUBRET_LIBRARY_ROOTS, or your home folder where that is not given"
              >set at the start</span
            >
          {:else}
            <button class="btn btn-sm shrink-0" onclick={() => forbid(folder)}>No longer</button>
          {/if}
        </li>
      {/each}
    </ul>
    <form
      class="mt-3 flex gap-2"
      onsubmit={(e) => {
        e.preventDefault();
        void allow(text).then((done) => done && (text = ""));
      }}
    >
      <input
        class="input num w-full"
        aria-label="Another folder that Zubret may read"
        placeholder="another folder, as you copied its path"
        spellcheck="false"
        autocomplete="off"
        bind:value={text}
      />
      <button class="btn shrink-0" disabled={!text.trim()}>Let Zubret read it</button>
    </form>
  </section>

  <section class="mt-8" aria-labelledby="written">
    <h2 id="written" class="text-lg font-semibold">Folders for what is taken out</h2>
    <p class="mt-1 text-quiet">
      They are offered again when you take something out. What is in them stays when one is forgotten.
    </p>
    <ul class="mt-3 border-y border-line">
      {#each written.data ?? [] as folder (folder.id)}
        <li
          class="flex min-h-11 items-center justify-between gap-4 border-b border-line px-2 py-1.5 last:border-0"
        >
          <span class="num min-w-0 break-all">{folder.path}</span>
          <button class="btn btn-sm shrink-0" onclick={() => forget(folder)}>Forget</button>
        </li>
      {:else}
        <li class="px-2 py-3 text-quiet">
          {written.data ? "None yet: a folder is kept here once something was taken out to it." : "Loading …"}
        </li>
      {/each}
    </ul>
  </section>

  <section class="mt-8" aria-labelledby="plug-ins">
    <h2 id="plug-ins" class="text-lg font-semibold">Plug-ins</h2>
    <p class="mt-1 text-quiet">
      Packing steps and codecs that layouts may name, from Python packages that are installed beside Zubret.
    </p>
    <ul class="mt-3 border-y border-line">
      {#each plugIns.data ?? [] as plugIn (plugIn.kind + plugIn.name)}
        <li
          class="flex min-h-11 items-center justify-between gap-4 border-b border-line px-2 py-1.5 last:border-0"
        >
          <span class="min-w-0 break-all"><span class="num">{plugIn.name}</span> · {plugIn.kind}</span>
          <span class="shrink-0 text-quiet">{plugIn.package} {plugIn.version}</span>
        </li>
      {:else}
        <li class="px-2 py-3 text-quiet">
          {plugIns.data
            ? "None is installed. docs/plug-ins.md says how one is made and installed."
            : "Loading …"}
        </li>
      {/each}
    </ul>
  </section>

  {#if forgotten.data?.length}
    <section class="mt-8" aria-labelledby="forgotten">
      <h2 id="forgotten" class="text-lg font-semibold">Forgotten within the last 15 minutes</h2>
      <ul class="mt-3 border-y border-line">
        {#each forgotten.data as game (game.id)}
          <li
            class="flex min-h-11 items-center justify-between gap-4 border-b border-line px-2 py-1.5 last:border-0"
          >
            <span class="min-w-0 truncate">{game.name}</span>
            <button class="btn btn-sm shrink-0" onclick={() => bringBack(game)}>Bring it back</button>
          </li>
        {/each}
      </ul>
    </section>
  {/if}
</div>
