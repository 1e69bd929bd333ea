<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import ByteRibbon from "../components/ByteRibbon.svelte";
  import KeyRing from "../components/KeyRing.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import Sheet from "../components/Sheet.svelte";
  import type { Selection } from "../components/TakeOut.svelte";
  import { asProblem, type SurveyFile } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, count } from "../lib/format";
  import { ribbonOf } from "../lib/ribbon";
  import Entries from "./Entries.svelte";
  import FilesPut from "./FilesPut.svelte";
  import { WORDS, type FileQuery } from "./files.svelte";

  /** What is known of the chosen file, and what can be done with it. */
  let {
    file,
    query = $bindable(),
    takeOut,
  }: {
    file: SurveyFile;
    query: FileQuery;
    takeOut: (selection: Selection) => void;
  } = $props();

  const readable = $derived(!!file.archive_id && !["unreadable", "locked"].includes(file.what));
  const holds = $derived(!!file.archive_id && !!file.entries && file.what === "archive");
  /** The archive whose first entries are there. Its ribbon is laid out after them: of a large one that takes seconds. */
  let listed = $state("");
  const ribbon = createQuery(() => ({
    ...ribbonOf(file.archive_id ?? 0),
    enabled: readable && (!holds || listed === file.path),
    meta: { shown: true },
  }));
  const place = $derived(encodeURIComponent(file.path));
</script>

<Sheet label="The chosen file" title={file.path.split("/").at(-1)!} width="340px">
  <div>
    <h2 class="num text-base font-semibold break-all">{file.path}</h2>
    {#if file.what === "folder"}
      <p>folder, {count(file.count, "file")}, {bytes(file.size)}</p>
    {:else}
      <p>
        {WORDS[file.what]}{file.layout ? `, read by ${file.layout}` : ""}
        {#if file.archive_id || !file.error}<span class="block text-quiet">{file.evidence}</span>{/if}
      </p>
      {#if file.archive_id || !file.error}
        <a class="btn btn-sm mt-2" href="#/{app.gameId}/bench/{place}"
          >{file.what === "other" ? "Describe it on the layout bench" : "Look at its bytes"}</a
        >
      {/if}
      {#if file.what === "other"}
        <a class="btn btn-sm mt-2" href="#/{app.gameId}/unknown/{place}">Listen to its bytes</a>
        <a class="btn btn-sm mt-2" href="#/{app.gameId}/inside/{place}">What is in here?</a>
      {/if}
    {/if}
  </div>
  {#if file.error}<ProblemPanel problem={file.error} />{/if}
  {#if query.keys}<div class="mt-2"><KeyRing /></div>{/if}
  {#if ribbon.error}<ProblemPanel problem={asProblem(ribbon.error)} />{/if}
  {#if readable && !ribbon.error}
    <div>
      <h3 class="mb-2 text-quiet">Where its bytes are</h3>
      {#if ribbon.data}<ByteRibbon ribbon={ribbon.data} label={file.path} />
      {:else}<p class="h-12 text-quiet" role="status">Laying them out …</p>{/if}
    </div>
  {/if}
  {#if holds}
    <FilesPut archive={file.path} />
    {#key file.archive_id}
      <Entries
        {file}
        bind:text={query.entries}
        bind:sort={query.order}
        bind:entry={query.entry}
        {takeOut}
        listed={() => (listed = file.path)}
      />
    {/key}
  {/if}
</Sheet>
