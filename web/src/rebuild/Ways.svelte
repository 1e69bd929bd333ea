<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { toSearch } from "../bench/tabs";
  import { api, attempted, got, type ProblemText, type Ways } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { cache, ofGame } from "../lib/cache";

  /** How the game takes changes: which of its ways is used, what that means, and what only a person can do. still: nothing can be
   * chosen here, as where it is installed. */
  let { still = false, tell }: { still?: boolean; tell: (problem: ProblemText | null) => void } = $props();

  const path = { game_id: app.gameId };
  const found = createQuery(() => ({
    queryKey: ofGame(app.gameId, "ways"),
    queryFn: () => got(api.GET("/api/games/{game_id}/ways", { params: { path } })),
    staleTime: 0,
  }));
  const now = $derived(found.data);
  const way = $derived(now?.ways.find((w) => w.name === now.chosen));

  function take(answer: Ways) {
    cache.setQueryData(ofGame(app.gameId, "ways"), answer);
  }
  const choose = (way: string) =>
    attempted(async () => {
      take(await got(api.PUT("/api/games/{game_id}/way", { params: { path }, body: { way } })));
      await cache.invalidateQueries({ queryKey: ofGame(app.gameId) });
      void app.refreshRoute();
    }, tell);
  const tick = (text: string, done: boolean) =>
    attempted(
      async () =>
        take(await got(api.PUT("/api/games/{game_id}/by-hand", { params: { path }, body: { text, done } }))),
      tell,
    );
  const bench = (file: string, layout: string) =>
    app.go("bench", file, app.gameId, toSearch({ at: null, tab: "structure", layout }));
  /** Some file of the game, beside which the bench shows a text. */
  async function someFile(): Promise<string> {
    const params = { path, query: { limit: 1 } };
    const listed = await got(api.GET("/api/games/{game_id}/files", { params }));
    return listed.rows[0]?.path ?? "";
  }
  const look = () => attempted(async () => bench(await someFile(), now!.rules), tell);
  const write = () =>
    attempted(async () => {
      const begun = await got(api.POST("/api/games/{game_id}/bench/rules", { params: { path } }));
      bench(await someFile(), String(begun.id));
    }, tell);
</script>

{#if now && way}
  <section aria-label="How the game takes it" class="rounded-box bg-base-200 p-4">
    <div class="flex flex-wrap items-center gap-x-4 gap-y-2">
      <h2 class="font-semibold">How the game takes it</h2>
      {#if !still && now.ways.length > 1}
        <select
          class="select select-sm w-60"
          aria-label="How the game takes it"
          value={now.chosen}
          onchange={(e) => choose(e.currentTarget.value)}
        >
          {#each now.ways as w (w.name)}
            <option value={w.name}>{w.title}{w.kind === w.title ? "" : ` (${w.kind})`}</option>
          {/each}
        </select>
      {:else}<span>{way.title}{way.kind === way.title ? "" : ` (${way.kind})`}</span>{/if}
      <span class="grow"></span>
      {#if now.rules}
        <span class="text-quiet"
          >by the load rules <button class="underline" onclick={look}>{now.title || now.rules}</button></span
        >
      {:else if !still}
        <button class="btn btn-sm" onclick={write}>Write load rules …</button>
      {/if}
    </div>
    <p class="mt-1 text-quiet">
      {way.what[0]!.toUpperCase()}{way.what.slice(1)}.
      {#if !now.rules && !still}
        This game has no load rules yet: they tell which files it reads first, and in which other ways it
        takes changes.
      {/if}
    </p>
    {#if way.by_hand.length}
      <ul class="mt-2 space-y-1" aria-label="What only you can do">
        {#each way.by_hand as one (one.text)}
          <li>
            <label class="flex items-start gap-2">
              <input
                type="checkbox"
                class="checkbox checkbox-sm mt-0.5"
                checked={one.done}
                onchange={(e) => tick(one.text, e.currentTarget.checked)}
              />
              <span>{one.text}<span class="text-quiet">&nbsp;Only you can do this.</span></span>
            </label>
          </li>
        {/each}
      </ul>
    {/if}
  </section>
{/if}
