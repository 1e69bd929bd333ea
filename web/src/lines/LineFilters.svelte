<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { toggled } from "../lib/address";
  import { api, got } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { asked, EVERYTHING, narrows, type Query } from "../lib/query";
  import Facet from "../list/Facet.svelte";

  /** What the lines are narrowed by, and how far those of each language are. */
  let { query = $bindable(), toList }: { query: Query; toList: () => void } = $props();

  const languages = createQuery(() => ({
    queryKey: ofGame(app.gameId, "languages"),
    queryFn: () =>
      got(api.GET("/api/games/{game_id}/languages", { params: { path: { game_id: app.gameId } } })),
  }));
  const counted = $derived(asked({ ...query, language: [], sort: EVERYTHING.sort }));
  const progress = createQuery(() => ({
    queryKey: ofGame(app.gameId, "lines", "progress", counted),
    queryFn: ({ signal }) => {
      const path = { mod_id: app.game!.mod_id };
      return got(api.GET("/api/mods/{mod_id}/lines/progress", { params: { path, query: counted }, signal }));
    },
    placeholderData: (before) => before,
    meta: { shown: true },
  }));
  const of = $derived(new Map(progress.data?.map((p) => [p.language, p])));

  const EITHER = [
    ["spoken", "with a text", "without a text"],
    ["swapped", "with a take", "without a take"],
    ["done", "done", "not done"],
  ] as const;
  const values = EITHER.flatMap(([key, yes, no]) => [
    { value: `${key} yes`, label: yes },
    { value: `${key} no`, label: no },
  ]);
  const chosen = $derived(EITHER.flatMap(([key]) => (query[key] ? [`${key} ${query[key]}`] : [])));
  /** Of two that exclude each other the newer one counts. */
  function choose(next: string[]) {
    for (const [key] of EITHER) {
      const both = ["yes", "no"].filter((which) => next.includes(`${key} ${which}`));
      query[key] = (both.find((which) => which !== query[key]) ?? both[0] ?? "") as "" | "yes" | "no";
    }
  }
</script>

<div class="flex flex-wrap items-end gap-x-5 gap-y-2">
  <label class="block w-48 max-md:grow">
    <span class="text-quiet max-md:sr-only">Text, id, bank, notes</span>
    <input
      class="input mt-1 w-full max-md:mt-0"
      type="search"
      bind:value={query.q}
      onkeydown={(e) => {
        if (e.key !== "ArrowDown") return;
        e.preventDefault();
        toList();
      }}
    />
  </label>
  <div role="group" aria-label="Language" class="flex min-w-0 flex-wrap gap-1.5 max-md:basis-full">
    <button
      class="rounded-full border px-3 py-0.5 {query.language.length
        ? 'border-line text-quiet hover:border-edge'
        : 'border-primary bg-base-300'}"
      aria-pressed={!query.language.length}
      onclick={() => (query.language = [])}>any language</button
    >
    {#each languages.data ?? [] as name (name)}
      {@const far = of.get(name === "none" ? "" : name)}
      <button
        class="rounded-full border px-3 py-0.5 {query.language.includes(name)
          ? 'border-primary bg-base-300'
          : 'border-line text-quiet hover:border-edge'}"
        aria-pressed={query.language.includes(name)}
        title={far
          ? `${far.lines} lines: ${far.spoken} with a text, ${far.taken} with a take, ${far.fit} fit, ${far.done} done`
          : ""}
        onclick={() => (query.language = toggled(query.language, name))}
        >{name === "none" ? "no language" : name}
        {#if far}<span class="num">{far.fit} of {far.lines}{far.done ? `, ${far.done} done` : ""}</span
          >{/if}</button
      >
    {/each}
  </div>
  <Facet label="state" {values} bind:chosen={() => chosen, choose} />
  {#if narrows(query)}
    <button class="pb-1 text-primary underline" onclick={() => (query = { ...EVERYTHING, sort: query.sort })}
      >everything</button
    >
  {/if}
</div>
