<script lang="ts">
  import { app } from "../lib/app.svelte";
  import { givenFile } from "../lib/given";
  import { nameOf, type Draft } from "./draft.svelte";

  /** Which file and which layout, and what can be done with that one. */
  let {
    draft,
    path,
    files,
    faulty,
    ofGame,
    check,
    begin,
  }: {
    draft: Draft;
    path: string;
    files: string[];
    /** Whether the text is no layout yet. */
    faulty: boolean;
    /** Whether it gives load rules. */
    ofGame: boolean;
    check: () => void;
    /** Show how a new one may begin. */
    begin: () => void;
  } = $props();

  async function bring(file: File | undefined) {
    if (file) await draft.make({ name: file.name.replace(/\.ya?ml$/, ""), text: await file.text() });
  }
</script>

<div class="flex flex-wrap items-end gap-x-3 gap-y-2">
  <div class="min-w-0">
    <h1 class="text-lg leading-tight font-bold">Layout bench</h1>
    <label class="sr-only" for="bench-file">File</label>
    <select
      id="bench-file"
      class="select select-sm num mt-1 w-64"
      value={path}
      onchange={(e) => app.go("bench", e.currentTarget.value)}
    >
      {#if !files.includes(path)}<option value={path}>{path}</option>{/if}
      {#each files as file (file)}<option value={file}>{file}</option>{/each}
    </select>
  </div>
  <label class="block"
    ><span class="sr-only">Layout</span>
    <select
      class="select select-sm w-80"
      value={draft.name}
      onchange={(e) => {
        const line = draft.lines.find((l) => nameOf(l) === e.currentTarget.value);
        if (line) void draft.choose(line);
      }}
    >
      <option value="" disabled>choose a layout …</option>
      {#each draft.lines as l (l.id ? `own ${l.id}` : l.slug)}
        <option value={nameOf(l)} title={l.problem}
          >{l.id ? l.title : `${l.slug} (ships with Zubret)`}{l.problem ? " (does not load)" : ""}</option
        >
      {/each}
    </select></label
  >
  <button class="btn btn-sm" onclick={begin}>New …</button>
  <label class="btn btn-sm"
    >Bring in …<input
      type="file"
      class="sr-only"
      accept=".yaml,.yml"
      onchange={(e) => bring(givenFile(e))}
    /></label
  >
  {#if draft.current && !draft.own}
    <button
      class="btn btn-sm"
      onclick={() => draft.make({ text: draft.text, name: `${draft.current!.name}, copy` })}
      >Copy to change it</button
    >
  {:else if draft.current}
    <a class="btn btn-sm" href="/api/layouts/{draft.current.id}/file" download>Give out</a>
    {#if draft.current.versions.length > 1}
      <select
        class="select select-sm w-36"
        aria-label="Go back to a version"
        onchange={(e) => draft.back(Number(e.currentTarget.value))}
      >
        <option value="">versions …</option>
        {#each draft.current.versions as v (v.id)}<option value={v.id}
            >{new Date(v.saved).toLocaleString()}</option
          >{/each}
      </select>
    {/if}
    <button class="btn btn-sm" onclick={draft.remove}>Remove</button>
  {/if}
  <span class="ml-auto flex items-center gap-2">
    {#if draft.own}<span class="text-quiet" role="status"
        >{draft.kept ? (draft.current?.saved ? "saved" : "draft kept") : "writing …"}</span
      >{/if}
    {#if draft.current && !ofGame}
      <button class="btn btn-sm" disabled={faulty} onclick={check}>Check</button>
    {/if}
    {#if draft.own}
      <button class="btn btn-sm btn-primary" disabled={faulty || !!draft.current?.saved} onclick={draft.save}
        >{ofGame ? "Save" : "Save for surveys"}</button
      >
    {/if}
    <a class="btn btn-sm" href="#/{app.gameId}/survey">Survey</a>
  </span>
</div>
