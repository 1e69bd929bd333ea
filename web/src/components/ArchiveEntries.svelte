<script lang="ts">
  import {
    api,
    asProblem,
    every,
    got,
    upload,
    type Entry,
    type EntryFile,
    type ProblemText,
    type SurveyFile,
  } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, count, spaced } from "../lib/format";
  import ProblemPanel from "./ProblemPanel.svelte";
  import type { Selection } from "./TakeOut.svelte";

  /** The entries of an archive: their names, taking them out, and files that take their place or join them. */
  let {
    file,
    stamp,
    takeOut,
  }: { file: SurveyFile; stamp: unknown; takeOut: (selection: Selection) => void } = $props();

  let entries = $state<Entry[]>([]);
  let total = $state(0);
  let text = $state("");
  let chosen = $state<Set<number>>(new Set());
  let names = $state<{ id: number; path: string; title: string; lines: number }[]>([]);
  let files = $state<EntryFile[]>([]);
  let problem = $state<ProblemText | null>(null);
  let adding = $state<{ file: File; path: string } | null>(null);
  let sending = $state<number | null>(null);

  const mod_id = app.game!.mod_id;
  const game_id = app.gameId;
  const archive = $derived(file.archive_id ?? 0);
  const list = $derived(names.find((n) => n.path === file.path));
  const one = $derived(chosen.size === 1 ? entries.find((e) => chosen.has(e.id)) : undefined);
  const here = $derived(files.filter((f) => f.archive === file.path));

  $effect(() => {
    void archive;
    chosen = new Set();
    entries = [];
    total = 0;
    adding = problem = null;
  });

  // After every survey and job anew; what is shown stays until the answer is there, and so do the ticks.
  $effect(() => {
    void stamp;
    const [id, q] = [archive, text];
    const timer = setTimeout(async () => {
      try {
        const query = { archive: id, q, limit: 200 };
        const page = await got(
          api.GET("/api/games/{game_id}/entries", { params: { path: { game_id }, query } }),
        );
        if (id !== archive || q !== text) return;
        entries = page.rows;
        total = page.total;
      } catch (error) {
        problem = asProblem(error);
      }
    }, 100);
    return () => clearTimeout(timer);
  });

  async function loadLists() {
    try {
      names = await every((query) =>
        got(api.GET("/api/games/{game_id}/names", { params: { path: { game_id }, query } })),
      );
      files = await every((query) =>
        got(api.GET("/api/mods/{mod_id}/files", { params: { path: { mod_id }, query } })),
      );
    } catch (error) {
      problem = asProblem(error);
    }
  }
  $effect(() => {
    void stamp;
    void loadLists();
  });

  function tick(id: number) {
    const next = new Set(chosen);
    if (!next.delete(id)) next.add(id);
    chosen = next;
  }

  /** Take out what is ticked, else what the filter leaves of the archive. */
  function takeThemOut() {
    const q = chosen.size ? "" : text;
    const title = chosen.size
      ? `${count(chosen.size, "chosen entry")} of ${file.path}`
      : `${file.path}${q ? `, entries with “${q}”` : ""}`;
    takeOut({ archive, q, entries: [...chosen], title });
  }

  /** The file of a chooser, which then can choose the same one again. */
  function given(e: Event & { currentTarget: HTMLInputElement }): File | undefined {
    const found = e.currentTarget.files?.[0];
    e.currentTarget.value = "";
    return found;
  }

  async function giveNames(found: File | undefined) {
    if (!found) return;
    const body = { path: file.path, title: found.name, text: await found.text() };
    await app.attempt(api.POST("/api/games/{game_id}/names", { params: { path: { game_id } }, body }));
    app.wake();
    await loadLists();
  }

  async function forgetNames(id: number) {
    await app.attempt(api.DELETE("/api/names/{names_id}", { params: { path: { names_id: id } } }));
    app.wake();
    await loadLists();
  }

  async function put(found: File, fields: Record<string, string | number>) {
    problem = null;
    sending = 0;
    try {
      await upload<EntryFile>(`/api/mods/${mod_id}/files`, found, fields, (share) => (sending = share));
      adding = null;
      chosen = new Set();
      await loadLists();
      void app.refreshRoute();
    } catch (error) {
      problem = asProblem(error);
    }
    sending = null;
  }

  function beginAdding(found: File | undefined) {
    if (!found) return;
    const beside = (one ?? entries[0])?.path ?? "";
    adding = { file: found, path: beside.slice(0, beside.lastIndexOf("/") + 1) + found.name };
  }

  function add(e: SubmitEvent) {
    e.preventDefault();
    if (adding) void put(adding.file, { archive_id: archive, path: adding.path });
  }

  async function remove(gone: EntryFile) {
    const path = { file_id: gone.id };
    await app.attempt(api.DELETE("/api/files/{file_id}", { params: { path } }));
    await loadLists();
    void app.refreshRoute();
    app.say(`${gone.source_name} was taken out of the mod.`, {
      label: "Undo",
      run: async () => {
        await app.attempt(api.POST("/api/files/{file_id}/restore", { params: { path } }));
        await loadLists();
        void app.refreshRoute();
      },
    });
  }
</script>

{#if list || entries.some((e) => /^[0-9a-f]{8,16}$/.test(e.path))}
  <div class="mt-5">
    <h3 class="font-semibold">Names</h3>
    {#if list}
      <p class="flex items-baseline justify-between gap-2">
        <span class="num text-quiet break-all">{list.title}, {count(list.lines, "line")}</span>
        <button class="btn btn-xs" onclick={() => forgetNames(list.id)}>Take away</button>
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
        onchange={(e) => giveNames(given(e))}
      /></label
    >
  </div>
{/if}
{#if here.length}
  <section class="mt-5" aria-label="Files in this mod">
    <h3 class="font-semibold">Files in this mod</h3>
    <ul>
      {#each here as put (put.id)}
        <li class="flex items-baseline justify-between gap-2 border-b border-line py-1.5">
          <span class="min-w-0"
            ><span class="num break-all">{put.entry}</span>
            <span class="block text-quiet"
              >{put.adds ? "added from" : "replaced by"} {put.source_name}, {bytes(put.size)}</span
            ></span
          >
          <button class="btn btn-xs" onclick={() => remove(put)}>Remove</button>
        </li>
      {/each}
    </ul>
    <p class="mt-1"><a class="link" href="#/{game_id}/rebuild">Go to Rebuild</a></p>
  </section>
{/if}
<div class="mt-5 flex items-center justify-between gap-3">
  <h3 class="text-quiet">{count(total, "entry")}</h3>
  <input
    class="input input-sm w-40"
    placeholder="path"
    aria-label="Filter entries by path"
    bind:value={text}
  />
</div>
<div class="mt-2 flex flex-wrap gap-2">
  <button class="btn btn-sm" disabled={!total} onclick={takeThemOut}
    >Take out {chosen.size ? `${spaced(chosen.size)} chosen` : text ? `${spaced(total)} found` : "all"} …</button
  >
  <label class="btn btn-sm {total ? '' : 'btn-disabled'}"
    >Add a file …
    <input type="file" class="sr-only" disabled={!total} onchange={(e) => beginAdding(given(e))} /></label
  >
  {#if one}
    <label class="btn btn-sm"
      >Put a file in its place …
      <input
        type="file"
        class="sr-only"
        onchange={(e) => {
          const found = given(e);
          if (found && one) void put(found, { entry_id: one.id });
        }}
      /></label
    >
    {@const place = encodeURIComponent(`${file.path} › ${one.path}`)}
    <a class="btn btn-sm" href="#/{game_id}/bench/{place}">Look at the entry’s bytes</a>
    <a class="btn btn-sm" href="#/{game_id}/unknown/{place}">Listen to them</a>
  {/if}
</div>
{#if adding}
  <form class="mt-3 rounded-box bg-base-300 p-3" onsubmit={add}>
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
  <progress class="progress mt-2 w-full" value={sending} max="1" aria-label="Sending the file"></progress>
{/if}
{#if problem}<div class="mt-3"><ProblemPanel {problem} close={() => (problem = null)} /></div>{/if}
<ul class="mt-2" aria-label="Entries">
  {#each entries as entry (entry.id)}
    <li class="border-b border-line py-1.5">
      <label class="flex cursor-pointer items-baseline gap-2">
        <input
          type="checkbox"
          class="checkbox checkbox-xs shrink-0 self-center"
          checked={chosen.has(entry.id)}
          onchange={() => tick(entry.id)}
        />
        <span class="num min-w-0 grow break-all">{entry.path}</span>
        <span class="num shrink-0 text-right text-quiet"
          >{bytes(entry.size)}<br />{entry.method}{entry.file
            ? `, ${entry.file.split(".").at(-1)}`
            : ""}</span
        >
      </label>
    </li>
  {/each}
</ul>
{#if total > entries.length}
  <p class="mt-2 text-quiet">The first {entries.length} are shown; filter by path to see others.</p>
{/if}
