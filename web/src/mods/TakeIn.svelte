<script lang="ts">
  import { untrack } from "svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import Modal from "../components/Modal.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import {
    api,
    attempted,
    got,
    upload,
    type PackageLook,
    type ProblemText,
    type SentOfMod,
  } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { allOf, everythingIn, type Found } from "../lib/folders";
  import { bytes, count } from "../lib/format";
  import WhatIsFound, { type BroughtIn } from "./WhatIsFound.svelte";

  /** A mod that somebody gave: a package of Zubret's, or files as they come. What is in it, and taking it in as a mod of this game. */
  let {
    given = [],
    taken,
    close,
  }: {
    /** What was dropped on the screen below. */
    given?: Found[];
    taken: (mod: number, ours: boolean) => void;
    close: () => void;
  } = $props();
  let modal: Modal;
  let problem = $state<ProblemText | null>(null);
  let sending = $state<number | null>(null);
  let sent = $state<SentOfMod | null>(null);
  let name = $state("");
  let begun = $state(0);
  let over = $state(false);

  const look = $derived<PackageLook | null>(sent?.package ?? null);
  const job = $derived(app.jobs.find((j) => j.id === begun));
  const running = $derived(job?.state === "waiting" || job?.state === "running");
  const found = $derived(job?.state === "done" && !look ? (job.result as unknown as BroughtIn) : null);
  const tell = (told: ProblemText | null) => (problem = told);

  $effect(() => {
    if (job?.state !== "done" || !look) return;
    const made = job.result.mod as number;
    untrack(() => {
      modal.close();
      taken(made, true);
    });
  });
  $effect(() => untrack(() => void send(given)));

  /** One file after the other; what was sent before goes. */
  async function send(files: Found[]) {
    if (!files.length) return;
    [sent, begun, sending] = [null, 0, 0];
    name = files[0]!.path.split("/")[0]!.replace(/\.(zip|[a-z0-9]{1,5})$/i, "");
    const total = files.reduce((sum, f) => sum + f.file.size, 0) || 1;
    let done = 0;
    let token = "";
    await attempted(async () => {
      for (const { path, file } of files) {
        const fields = { path, token };
        const share = (part: number) => (sending = (done + part * file.size) / total);
        const answer = await upload<SentOfMod>(`/api/games/${app.gameId}/brought`, file, fields, share);
        [token, done] = [answer.token, done + file.size];
        if (file === files.at(-1)!.file) sent = answer;
      }
    }, tell);
    sending = null;
  }

  const take = () =>
    attempted(async () => {
      const path = { game_id: app.gameId, token: sent!.token };
      const started = look
        ? await got(api.POST("/api/games/{game_id}/packages/{token}", { params: { path } }))
        : await got(api.POST("/api/games/{game_id}/brought/{token}", { params: { path }, body: { name } }));
      begun = started.id;
      app.started(started);
    }, tell);
</script>

<Modal
  bind:this={modal}
  label="Take in a mod"
  width="w-[38rem]"
  onclose={() => {
    if (found?.mod) taken(found.mod, false);
    else close();
  }}
  ondragover={(e) => {
    e.preventDefault();
    over = true;
  }}
  ondragleave={() => (over = false)}
  ondrop={async (e) => {
    e.preventDefault();
    e.stopPropagation();
    over = false;
    if (e.dataTransfer && !running) await send(await everythingIn(e.dataTransfer));
  }}
>
  <h2 class="text-lg font-bold">Take in a mod</h2>
  <p class="text-quiet">
    A package of Zubret's, or a mod as it comes: a ZIP, a folder, an archive of the game's own kind. Zubret
    finds out what it changes, down to the stream.
  </p>
  {#if !found}
    <div
      class="mt-3 flex flex-wrap items-center gap-3 rounded-box border border-dashed p-4 {over
        ? 'border-primary'
        : 'border-edge'}"
    >
      <span class="grow">Drop it here</span>
      <label class="btn btn-sm {running ? 'btn-disabled' : ''}"
        >Choose files …
        <input
          type="file"
          class="sr-only"
          aria-label="Files of the mod"
          multiple
          disabled={running}
          onchange={(e) => send(allOf(e.currentTarget.files!))}
        /></label
      >
      <label class="btn btn-sm {running ? 'btn-disabled' : ''}"
        >Choose a folder …
        <input
          type="file"
          class="sr-only"
          aria-label="Folder of the mod"
          multiple
          disabled={running}
          {...{ webkitdirectory: true }}
          onchange={(e) => send(allOf(e.currentTarget.files!))}
        /></label
      >
    </div>
  {/if}
  {#if sending !== null}
    <progress class="progress progress-primary mt-3 w-full" value={sending} max="1" aria-label="Sending"
    ></progress>
  {/if}
  {#if problem}<div class="mt-3"><ProblemPanel {problem} close={() => (problem = null)} /></div>{/if}
  {#if job?.error}<div class="mt-3"><ProblemPanel problem={job.error} /></div>{/if}
  {#if look}
    <section class="mt-3 rounded-box bg-base-200 p-3" aria-label="What is in it">
      <p>
        <span class="font-semibold">{look.name}</span>
        <span class="text-quiet"
          >{[look.version, look.author && `by ${look.author}`, look.licence].filter(Boolean).join(", ")}</span
        >
      </p>
      {#if look.note}<p class="whitespace-pre-line">{look.note}</p>{/if}
      <p class="mt-2">
        <span class="num">{count(look.swaps, "stream")}</span> swapped{look.recipes
          ? `, ${look.recipes} of them made of the game's own sound`
          : ""}; <span class="num">{count(look.files, "file")}</span> for entries;
        <span class="num">{bytes(look.bytes)}</span> of new files
      </p>
      <p class="text-quiet">
        made against {look.game}{look.builds.length ? `, build ${look.builds.join(", ")}` : ""}
      </p>
      {#if look.other_game}
        <p class="mt-2 text-warning">▲ By its name this is for another game than {app.game!.name}.</p>
      {/if}
      {#if look.unknown.length}
        <p class="mt-2 text-warning break-all">
          ▲ Not named by its manifest, and left where it is: {look.unknown.join(", ")}
        </p>
      {/if}
    </section>
  {:else if sent && !found}
    <section class="mt-3 rounded-box bg-base-200 p-3" aria-label="What was sent">
      <p>
        <span class="num">{count(sent.files, "file")}</span>, <span class="num">{bytes(sent.bytes)}</span>,
        not looked into yet
      </p>
      <label class="mt-2 flex items-center gap-3"
        ><span class="text-quiet">name of the mod</span>
        <input class="input input-sm grow" maxlength="200" bind:value={name} disabled={running} /></label
      >
    </section>
  {/if}
  {#if running && job}<div class="mt-3"><JobPanel {job} /></div>{/if}
  {#if found}<WhatIsFound {found} />{/if}
  <div class="mt-4 flex justify-end gap-2">
    <button class="btn {found ? 'btn-primary' : ''}" onclick={() => modal.close()}
      >{found?.mod ? "Show the mods" : "Close"}</button
    >
    {#if sent && !running && !found}
      <button class="btn btn-primary" disabled={!look && !name.trim()} onclick={take}
        >{look ? "Take it in" : "Find out what it changes"}</button
      >
    {/if}
  </div>
</Modal>
