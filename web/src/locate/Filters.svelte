<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import LengthBrush from "../components/LengthBrush.svelte";
  import { toggled } from "../lib/address";
  import { api, got } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { spaced } from "../lib/format";
  import { KINDS } from "../lib/items";
  import { asked, EVERYTHING, narrows, type Query } from "../lib/query";
  import Facet from "../list/Facet.svelte";
  import SizeFilter from "./SizeFilter.svelte";

  /** What the list of streams is narrowed by. */
  let {
    query = $bindable(),
    settled,
    tree = $bindable(),
    toList,
  }: {
    query: Query;
    /** The question to which the list is the answer. */
    settled: Query;
    /** Whether the tree of places is open. */
    tree: boolean;
    /** To the list, by a key. */
    toList: () => void;
  } = $props();

  /** On a phone, whether the filters beside the words are shown. */
  let all = $state(false);
  let wide = $state(1280);
  const small = $derived(wide < 768);
  const MOST_CHIPS = 6;
  const path = { game_id: app.gameId };

  const holders = createQuery(() => ({
    queryKey: ofGame(app.gameId, "holders"),
    queryFn: () =>
      got(api.GET("/api/games/{game_id}/holders", { params: { path, query: { limit: MOST_CHIPS } } })),
  }));
  const languages = createQuery(() => ({
    queryKey: ofGame(app.gameId, "languages"),
    queryFn: () => got(api.GET("/api/games/{game_id}/languages", { params: { path } })),
  }));
  const facets = createQuery(() => ({
    queryKey: ofGame(app.gameId, "facets"),
    queryFn: () => got(api.GET("/api/games/{game_id}/facets", { params: { path } })),
  }));
  const STATES = [
    { value: "named", label: "named by you" },
    { value: "unnamed", label: "not named" },
    { value: "swapped", label: "⇄ swapped" },
    { value: "unswapped", label: "not swapped" },
    { value: "beaten", label: "overridden by another" },
    { value: "unbeaten", label: "what the game reads" },
  ];
  const told = (which: string, yes: string, no: string) => (which ? [which === "yes" ? yes : no] : []);
  const states = $derived([
    ...told(query.named, "named", "unnamed"),
    ...told(query.swapped, "swapped", "unswapped"),
    ...told(query.beaten, "beaten", "unbeaten"),
  ]);
  /** Of two that exclude each other the newer one counts. */
  function setStates(chosen: string[]) {
    const either = (yes: string, no: string, before: string) =>
      chosen.includes(yes) && (before !== "yes" || !chosen.includes(no))
        ? "yes"
        : chosen.includes(no)
          ? "no"
          : "";
    query.named = either("named", "unnamed", query.named);
    query.swapped = either("swapped", "unswapped", query.swapped);
    query.beaten = either("beaten", "unbeaten", query.beaten);
  }
  const numbers = (values: { value: string; label: string; streams: number }[]) =>
    values.map((v) => ({ ...v, value: Number(v.value) }));
  // The lengths of what is listed; what their own brush leaves out is counted, too.
  const measured = $derived(asked({ ...settled, shortest: null, longest: null, sort: EVERYTHING.sort }));
  const lengths = createQuery(() => ({
    queryKey: ofGame(app.gameId, "streams", "lengths", measured),
    queryFn: ({ signal }) =>
      got(api.GET("/api/games/{game_id}/lengths", { params: { path, query: measured }, signal })),
    placeholderData: (before) => before,
  }));
  const held = $derived(holders.data?.total ?? 0);
</script>

<svelte:window bind:innerWidth={wide} />

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
  <label class="block w-48 max-md:grow">
    <span class="text-quiet max-md:sr-only">Name, id, bank, path</span>
    <input
      class="input mt-1 w-full font-mono max-md:mt-0"
      type="search"
      placeholder={small ? "name, id, bank, path" : ""}
      bind:value={query.q}
      onkeydown={(e) => {
        if (e.key !== "ArrowDown") return;
        e.preventDefault();
        toList();
      }}
    />
  </label>
  <button class="btn md:hidden" aria-expanded={all} onclick={() => (all = !all)}
    >{narrows({ ...query, q: "" }) ? "Filter ●" : "Filter"}</button
  >
  {#if lengths.data}
    <LengthBrush
      lengths={lengths.data}
      bind:range={
        () => [query.shortest, query.longest],
        ([shortest, longest]) => (query = { ...query, shortest, longest })
      }
    />
  {/if}
  <div class="min-w-0 flex-1 basis-72 space-y-1.5 {all ? '' : 'max-md:hidden'}">
    {#if holders.data && held}
      <div role="group" aria-label="Where">
        <p class="text-quiet">
          Where ·
          <button
            class="text-primary underline max-lg:hidden"
            aria-pressed={tree}
            onclick={() => (tree = !tree)}>{tree ? "without" : "by"} folders and banks</button
          >
        </p>
        <div class="mt-1 flex flex-wrap gap-1.5">
          {#if held <= MOST_CHIPS}
            {@render chip("all archives", !query.archive.length, () => (query.archive = []))}
            {#each holders.data.rows as r (r.path)}
              {@render chip(
                r.path.split(/\/| › /).at(-1) ?? r.path,
                query.archive.includes(r.path),
                () => (query.archive = toggled(query.archive, r.path)),
              )}
            {/each}
          {/if}
          {#if query.within}
            {@render chip(`${query.within} ×`, true, () => (query.within = ""))}
          {/if}
        </div>
      </div>
    {/if}
    <div role="group" aria-label="State and format" class="flex flex-wrap gap-1.5">
      <Facet label="state" values={STATES} bind:chosen={() => states, setStates} />
      {#if facets.data}
        <Facet label="codec" values={facets.data.codec} bind:chosen={query.codec} />
        <Facet label="rate" values={numbers(facets.data.rate)} bind:chosen={query.rate} />
        <Facet label="channels" values={numbers(facets.data.channels)} bind:chosen={query.channels} />
      {/if}
      <SizeFilter bind:smallest={query.smallest} bind:largest={query.largest} />
    </div>
  </div>
</div>
<div class="mt-2 flex flex-wrap items-center gap-x-4 gap-y-1.5 {all ? '' : 'max-md:hidden'}">
  {#if languages.data?.length}
    <div role="group" aria-label="Language" class="flex flex-wrap gap-1.5">
      {@render chip("any language", !query.language.length, () => (query.language = []))}
      {#each languages.data as name (name)}
        {@render chip(
          name,
          query.language.includes(name),
          () => (query.language = toggled(query.language, name)),
        )}
      {/each}
    </div>
  {/if}
  <div role="group" aria-label="Kind" class="flex flex-wrap gap-1.5">
    {#each KINDS as name (name)}
      {@render chip(name, query.kind.includes(name), () => (query.kind = toggled(query.kind, name)))}
    {/each}
  </div>
  <div role="group" aria-label="Loop and mark" class="flex flex-wrap gap-1.5">
    {@render chip("loops", query.loop === "yes", () => (query.loop = query.loop === "yes" ? "" : "yes"))}
    {@render chip("plays once", query.loop === "no", () => (query.loop = query.loop === "no" ? "" : "no"))}
    {@render chip("◆ marked", query.marked, () => (query.marked = !query.marked))}
  </div>
  {#if narrows(query)}
    <button class="text-primary underline" onclick={() => (query = { ...EVERYTHING, sort: query.sort })}
      >everything</button
    >
  {/if}
</div>
