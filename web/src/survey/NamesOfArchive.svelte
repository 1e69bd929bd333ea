<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { api, every, got } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { cache, ofGame } from "../lib/cache";
  import { count } from "../lib/format";
  import { givenFile } from "../lib/given";

  /** The name list of an archive that stores hashes in place of paths. */
  let { path, hashed }: { path: string; hashed: boolean } = $props();

  const game_id = app.gameId;
  const lists = createQuery(() => ({
    queryKey: ofGame(game_id, "names"),
    queryFn: () =>
      every((query) => got(api.GET("/api/games/{game_id}/names", { params: { path: { game_id }, query } }))),
  }));
  const list = $derived(lists.data?.find((names) => names.path === path));

  async function changed() {
    app.wake();
    await cache.invalidateQueries({ queryKey: ofGame(game_id, "names") });
  }

  async function give(found: File | undefined) {
    if (!found) return;
    const body = { path, title: found.name, text: await found.text() };
    await app.attempt(api.POST("/api/games/{game_id}/names", { params: { path: { game_id } }, body }));
    await changed();
  }

  async function forget(names_id: number) {
    await app.attempt(api.DELETE("/api/names/{names_id}", { params: { path: { names_id } } }));
    await changed();
  }
</script>

{#if list || hashed}
  <div class="mt-2">
    <h3 class="font-semibold">Names</h3>
    {#if list}
      <p class="flex items-baseline justify-between gap-2">
        <span class="num text-quiet break-all">{list.title}, {count(list.lines, "line")}</span>
        <button class="btn btn-xs" onclick={() => forget(list.id)}>Take away</button>
      </p>
    {:else}
      <p class="text-quiet">This archive stores hashes. A text file with a path on each line gives names.</p>
    {/if}
    <label class="btn btn-sm mt-2"
      >{list ? "Another name list" : "Give a name list"}
      <input
        type="file"
        class="sr-only"
        accept=".txt,.csv,.tsv,text/*"
        onchange={(e) => give(givenFile(e))}
      /></label
    >
  </div>
{/if}
