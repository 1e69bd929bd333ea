<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { api, every, got } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { cache, ofGame } from "../lib/cache";
  import { closing } from "../lib/closing";

  /** Searches that are kept under a name. */
  let { search, choose }: { search: string; choose: (search: string) => void } = $props();
  let open = $state(false);
  let name = $state("");
  const path = { game_id: app.gameId };
  const key = ofGame(app.gameId, "searches");
  const kept = createQuery(() => ({
    queryKey: key,
    queryFn: () =>
      every((query) => got(api.GET("/api/games/{game_id}/searches", { params: { path, query } }))),
  }));

  async function save(e: SubmitEvent) {
    e.preventDefault();
    const body = { name, search };
    if (!(await app.attempt(api.POST("/api/games/{game_id}/searches", { params: { path }, body })))) return;
    name = "";
    await cache.invalidateQueries({ queryKey: key });
  }

  async function forget(id: number, gone: { name: string; search: string }) {
    await app.attempt(api.DELETE("/api/searches/{search_id}", { params: { path: { search_id: id } } }));
    await cache.invalidateQueries({ queryKey: key });
    app.say(`The search ${gone.name} was forgotten.`, {
      label: "Undo",
      run: async () => {
        await app.attempt(api.POST("/api/games/{game_id}/searches", { params: { path }, body: gone }));
        await cache.invalidateQueries({ queryKey: key });
      },
    });
  }
</script>

<div class="relative">
  <button class="btn btn-sm" aria-haspopup="true" aria-expanded={open} onclick={() => (open = !open)}
    >Searches</button
  >
  {#if open}
    <section
      use:closing={() => (open = false)}
      aria-label="Saved searches"
      class="absolute top-full right-0 z-30 mt-1 max-h-[60vh] w-72 overflow-auto rounded-box border border-edge bg-base-200 p-3 shadow-lg"
    >
      <ul>
        {#each kept.data ?? [] as saved (saved.id)}
          <li class="flex items-center gap-2">
            <button
              class="min-w-0 grow truncate rounded px-1.5 py-1 text-left hover:bg-base-300 {saved.search ===
              search
                ? 'font-semibold'
                : ''}"
              onclick={() => {
                open = false;
                choose(saved.search);
              }}>{saved.name}</button
            >
            <button
              class="btn btn-xs"
              aria-label="Forget {saved.name}"
              onclick={() => forget(saved.id, { name: saved.name, search: saved.search })}>Forget</button
            >
          </li>
        {:else}
          <li class="text-quiet">None is kept yet. Filter the list, then give the search a name.</li>
        {/each}
      </ul>
      <form class="mt-2 flex gap-2 border-t border-line pt-2" onsubmit={save}>
        <input
          class="input input-sm min-w-0 grow"
          aria-label="Name of this search"
          placeholder="name of this search"
          maxlength="100"
          bind:value={name}
        />
        <button class="btn btn-sm" disabled={!name.trim()}>Keep</button>
      </form>
    </section>
  {/if}
</div>
