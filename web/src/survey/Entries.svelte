<script lang="ts">
  import type { Selection } from "../components/TakeOut.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import {
    asProblem,
    upload,
    type Entry,
    type EntryFile,
    type ProblemText,
    type SurveyFile,
  } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { whenAsked } from "../lib/asking.svelte";
  import { bytes, count, spaced } from "../lib/format";
  import { givenFile } from "../lib/given";
  import { Choice } from "../list/choice.svelte";
  import List from "../list/List.svelte";
  import { entryColumns, EntryRows, SORTS, storedAs } from "./entries.svelte";
  import { filesPutChanged } from "./put";
  import NamesOfArchive from "./NamesOfArchive.svelte";

  /** The entries of an archive: taking them out, and files that take their place or join them. Made anew for another archive. */
  let {
    file,
    text = $bindable(),
    sort = $bindable(),
    entry = $bindable(),
    takeOut,
    listed,
  }: {
    file: SurveyFile;
    /** The filter, the order, and the path of the chosen entry. */
    text: string;
    sort: string;
    entry: string;
    takeOut: (selection: Selection) => void;
    /** The first rows are there, or it is known why not. */
    listed: () => void;
  } = $props();

  // svelte-ignore state_referenced_locally
  const archive = file.archive_id!;
  const mod_id = app.game!.mod_id;
  const rows = new EntryRows(app.gameId, archive);
  const columns = entryColumns();
  let current = $state.raw<Entry | null>(null);
  const choice = new Choice<Entry>(
    rows,
    (row) => row.id,
    rows.numbers,
    (row) => {
      current = row;
      entry = row.path;
    },
  );
  const one = $derived(choice.chosen.size === 1 && current && choice.chosen.has(current.id) ? current : null);
  const chosen = $derived(choice.chosen.size);
  const hashed = $derived(!!rows.head?.rows.some((entry) => /^[0-9a-f]{8,16}$/.test(entry.path)));

  const asks = $derived(JSON.stringify({ archive, q: text, sort }));
  let answered = $state("");
  whenAsked(
    () => asks,
    async (asked) => {
      if (!(await rows.ask(JSON.parse(asked)))) return;
      answered = asked;
      if (entry && !current) await find(entry);
    },
  );

  /** The entry that the address names is the current one, where the list has it. */
  async function find(path: string) {
    const moved = choice.since();
    const place = await rows.jump(path, 0);
    const found = place < 0 ? undefined : await rows.need(place);
    if (found?.path === path && !moved()) await choice.go(place);
  }

  $effect(() => {
    if (!rows.loading) listed();
  });

  let problem = $state<ProblemText | null>(null);
  let adding = $state<{ file: File; path: string } | null>(null);
  let sending = $state<number | null>(null);

  function takeChosenOut() {
    takeOut({
      entries: [...choice.chosen],
      title: `${count(chosen, "chosen entry")} of ${file.path}`,
    });
  }
  function takeFoundOut() {
    takeOut({
      archives: [archive],
      q: text,
      title: `${file.path}${text ? `, entries with “${text}”` : ""}`,
    });
  }

  async function put(found: File, fields: Record<string, string | number>) {
    problem = null;
    sending = 0;
    try {
      await upload<EntryFile>(`/api/mods/${mod_id}/files`, found, fields, (share) => (sending = share));
      adding = null;
      await filesPutChanged();
    } catch (error) {
      problem = asProblem(error);
    }
    sending = null;
  }

  function beginAdding(found: File | undefined) {
    if (!found) return;
    const beside = (one ?? rows.at(0))?.path ?? "";
    adding = { file: found, path: beside.slice(0, beside.lastIndexOf("/") + 1) + found.name };
  }

  function add(e: SubmitEvent) {
    e.preventDefault();
    if (adding) void put(adding.file, { archive_id: archive, path: adding.path });
  }
</script>

{#snippet narrow(entry: Entry)}
  <div class="num truncate" title={entry.path}>{entry.path}</div>
  <div class="num truncate text-quiet">{bytes(entry.size)} · {storedAs(entry)}</div>
{/snippet}

<NamesOfArchive path={file.path} {hashed} />
<div class="mt-2 flex items-center justify-between gap-2">
  <h3 class="text-quiet">{count(rows.total, "entry")}</h3>
  <input
    class="input input-sm w-40"
    placeholder="path"
    aria-label="Filter entries by path"
    bind:value={text}
  />
</div>
<div class="flex flex-wrap gap-2">
  {#if chosen}<button class="btn btn-sm" onclick={takeChosenOut}>Take out {spaced(chosen)} chosen …</button
    >{/if}
  <button class="btn btn-sm" disabled={!rows.total} onclick={takeFoundOut}
    >Take out {text ? `${spaced(rows.total)} found` : "all"} …</button
  >
  <label class="btn btn-sm {rows.total ? '' : 'btn-disabled'}"
    >Add a file …
    <input
      type="file"
      class="sr-only"
      disabled={!rows.total}
      onchange={(e) => beginAdding(givenFile(e))}
    /></label
  >
  {#if one}
    {@const place = encodeURIComponent(`${file.path} › ${one.path}`)}
    <label class="btn btn-sm"
      >Put a file in its place …
      <input
        type="file"
        class="sr-only"
        onchange={(e) => {
          const found = givenFile(e);
          if (found && one) void put(found, { entry_id: one.id });
        }}
      /></label
    >
    <a class="btn btn-sm" href="#/{app.gameId}/bench/{place}">Look at the entry’s bytes</a>
    <a class="btn btn-sm" href="#/{app.gameId}/unknown/{place}">Listen to them</a>
  {/if}
</div>
{#if adding}
  <form class="rounded-box bg-base-300 p-3" onsubmit={add}>
    <label class="block"
      ><span class="text-quiet">the new entry's path; {adding.file.name}, {bytes(adding.file.size)}</span>
      <input class="input input-sm num mt-1 w-full" bind:value={adding.path} /></label
    >
    <div class="mt-2 flex justify-end gap-2">
      <button type="button" class="btn btn-sm" onclick={() => (adding = null)}>Cancel</button>
      <button class="btn btn-sm btn-primary" disabled={!adding.path.trim() || sending !== null}
        >Add it to the mod</button
      >
    </div>
  </form>
{/if}
{#if sending !== null}
  <progress class="progress w-full" value={sending} max="1" aria-label="Sending the file"></progress>
{/if}
{#if problem ?? rows.problem}
  <ProblemPanel problem={(problem ?? rows.problem)!} close={problem ? () => (problem = null) : undefined} />
{/if}
<label class="flex items-center gap-2 text-quiet"
  >order
  <select class="select select-sm grow" bind:value={sort}>
    {#each SORTS as [key, words] (key)}<option value={key}>{words}</option>{/each}
  </select></label
>
<div class="flex min-h-96 grow flex-col">
  <List
    label="Entries"
    {columns}
    {choice}
    bind:sort
    busy={asks !== answered}
    jump={rows.jump}
    ticks
    {narrow}
    open={(entry) => app.go("bench", `${file.path} › ${entry.path}`)}
  >
    {#snippet empty()}{text ? "No entry has that in its path." : "This archive is empty."}{/snippet}
  </List>
</div>
