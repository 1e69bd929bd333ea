<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { toggled } from "../lib/address";
  import { api, got, type SurveyFile } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import type { Columns } from "../lib/columns.svelte";
  import { spaced } from "../lib/format";
  import ColumnsMenu from "../list/ColumnsMenu.svelte";
  import Facet from "../list/Facet.svelte";
  import { ALL_FILES, narrowsFiles, WORDS, type FileQuery } from "./files.svelte";

  /** What the list of files is narrowed by, and how it is shown. */
  let {
    query = $bindable(),
    found,
    columns,
    toList,
  }: { query: FileQuery; found: number; columns: Columns<SurveyFile>; toList: () => void } = $props();

  const kinds = createQuery(() => ({
    queryKey: ofGame(app.gameId, "file-kinds"),
    queryFn: () =>
      got(api.GET("/api/games/{game_id}/file-kinds", { params: { path: { game_id: app.gameId } } })),
  }));
  const what = $derived(
    (kinds.data ?? []).map((k) => ({ value: k.what, label: WORDS[k.what] ?? k.what, streams: k.files })),
  );
  const known = $derived(what.map((k) => k.value).filter((k) => k !== "other"));
  const hiding = $derived(!!query.what.length && !query.what.includes("other"));
  const STATES = [
    { value: "sound", label: "with sound" },
    { value: "fault", label: "with an error" },
  ];
</script>

<div class="flex flex-wrap items-center gap-x-3 gap-y-2">
  <label class="flex items-center gap-2 max-md:grow"
    ><span class="text-quiet max-md:sr-only">Path</span>
    <input
      class="input input-sm w-56 font-mono max-md:w-full"
      type="search"
      bind:value={query.q}
      onkeydown={(e) => {
        if (e.key !== "ArrowDown") return;
        e.preventDefault();
        toList();
      }}
    /></label
  >
  {#if what.length > 1}<Facet label="what it is" values={what} bind:chosen={query.what} />{/if}
  <Facet label="state" values={STATES} bind:chosen={query.state} />
  {#if what.length > known.length && known.length}
    <button
      class="rounded-full border px-3 py-0.5 max-md:hidden {hiding
        ? 'border-primary bg-base-300'
        : 'border-line text-quiet hover:border-edge'}"
      aria-pressed={hiding}
      onclick={() => (query.what = hiding ? [] : query.what.length ? toggled(query.what, "other") : known)}
      >hide not recognised</button
    >
  {/if}
  {#if narrowsFiles(query)}
    <p class="text-quiet" role="status">{spaced(found)} {query.tree ? "rows" : "found"}</p>
    <button
      class="text-primary underline"
      onclick={() =>
        (query = {
          ...ALL_FILES,
          sort: query.sort,
          tree: query.tree,
          opened: query.opened,
          within: query.within,
        })}>everything</button
    >
  {/if}
  <div class="ml-auto flex gap-2 max-md:hidden">
    <div class="join" role="group" aria-label="Show as">
      {#each [[false, "List"], [true, "Tree"]] as const as [tree, name] (name)}
        <button
          class="btn btn-sm join-item {query.tree === tree
            ? 'border-primary! bg-base-100! font-semibold'
            : ''}"
          aria-pressed={query.tree === tree}
          onclick={() => (query.tree = tree)}>{name}</button
        >
      {/each}
    </div>
    <ColumnsMenu {columns} />
  </div>
</div>
