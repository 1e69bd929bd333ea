<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import LengthBrush from "../components/LengthBrush.svelte";
  import { api, got } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { spaced } from "../lib/format";
  import { asked, type Query } from "../lib/query";

  /** What the list of streams is narrowed by. */
  let { query = $bindable(), settled }: { query: Query; settled: Query } = $props();

  const MOST_CHIPS = 6;
  const MOST_LISTED = 500;
  const KINDS = ["music", "voice", "effect"];
  const path = { game_id: app.gameId };

  const holders = createQuery(() => ({
    queryKey: ofGame(app.gameId, "holders"),
    queryFn: () =>
      got(api.GET("/api/games/{game_id}/holders", { params: { path, query: { limit: MOST_LISTED } } })),
  }));
  const languages = createQuery(() => ({
    queryKey: ofGame(app.gameId, "languages"),
    queryFn: () => got(api.GET("/api/games/{game_id}/languages", { params: { path } })),
  }));
  // The lengths of what is listed; what their own brush leaves out is counted, too.
  const measured = $derived(asked({ ...settled, shortest: null, longest: null, sort: "" }));
  const lengths = createQuery(() => ({
    queryKey: ofGame(app.gameId, "streams", "lengths", measured),
    queryFn: ({ signal }) =>
      got(api.GET("/api/games/{game_id}/lengths", { params: { path, query: measured }, signal })),
    placeholderData: (before) => before,
  }));
  const held = $derived(holders.data?.total ?? 0);
</script>

{#snippet chip(text: string, on: boolean, act: () => void)}
  <button
    class="rounded-full border px-3 py-0.5 {on
      ? 'border-primary bg-base-300'
      : 'border-line text-quiet hover:border-edge'}"
    aria-pressed={on}
    onclick={act}>{text}</button
  >
{/snippet}

<div class="flex flex-wrap items-start gap-x-6 gap-y-2">
  <label class="block w-48">
    <span class="text-quiet">Name, id, bank, path</span>
    <input class="input mt-1 w-full font-mono" type="search" bind:value={query.q} />
  </label>
  {#if lengths.data}
    <LengthBrush
      lengths={lengths.data}
      bind:range={
        () => [query.shortest, query.longest],
        ([shortest, longest]) => (query = { ...query, shortest, longest })
      }
    />
  {/if}
  <div class="min-w-0 flex-1 basis-72 space-y-1.5">
    {#if holders.data && held}
      <div role="group" aria-label="Where">
        <p class="text-quiet">Where</p>
        <div class="mt-1 flex flex-wrap gap-1.5">
          {#if held > MOST_CHIPS}
            <select class="select select-sm w-64" aria-label="Archive" bind:value={query.archive}>
              <option value={0}>all archives</option>
              {#each holders.data.rows as r (r.path)}<option value={r.archive_id}>{r.path}</option>{/each}
              {#if held > holders.data.rows.length}
                <option disabled
                  >{spaced(held - holders.data.rows.length)} more: type part of their path</option
                >
              {/if}
            </select>
          {:else}
            {@render chip("all archives", query.archive === 0, () => (query.archive = 0))}
            {#each holders.data.rows as r (r.path)}
              {@render chip(
                r.path.split(/\/| › /).at(-1) ?? r.path,
                query.archive === r.archive_id,
                () => (query.archive = r.archive_id),
              )}
            {/each}
          {/if}
        </div>
      </div>
    {/if}
  </div>
</div>
<div class="mt-2 flex flex-wrap items-center gap-x-5 gap-y-1.5">
  {#if languages.data?.length}
    <div role="group" aria-label="Language" class="flex flex-wrap gap-1.5">
      {@render chip("any language", query.language === "", () => (query.language = ""))}
      {#each languages.data as name (name)}
        {@render chip(name, query.language === name, () => (query.language = name))}
      {/each}
    </div>
  {/if}
  <div role="group" aria-label="Kind" class="flex flex-wrap gap-1.5">
    {#each KINDS as name (name)}
      {@render chip(name, query.kind === name, () => (query.kind = query.kind === name ? "" : name))}
    {/each}
  </div>
  <div role="group" aria-label="Loop and mark" class="flex flex-wrap gap-1.5">
    {@render chip("loops", query.loop === "yes", () => (query.loop = query.loop === "yes" ? "" : "yes"))}
    {@render chip("plays once", query.loop === "no", () => (query.loop = query.loop === "no" ? "" : "no"))}
    {@render chip("◆ marked", query.marked, () => (query.marked = !query.marked))}
  </div>
</div>
