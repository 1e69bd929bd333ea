<script lang="ts">
  import { untrack } from "svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import Modal from "../components/Modal.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, attempted, got, upload, type PackageLook, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, count } from "../lib/format";

  /** A package that somebody gave: what is in it, and taking it in as a mod of this game. */
  let { taken, close }: { taken: (mod: number) => void; close: () => void } = $props();
  let modal: Modal;
  let problem = $state<ProblemText | null>(null);
  let sent = $state<number | null>(null);
  let look = $state<PackageLook | null>(null);
  let begun = $state(0);

  const job = $derived(app.jobs.find((j) => j.id === begun));
  const running = $derived(job?.state === "waiting" || job?.state === "running");
  const tell = (told: ProblemText | null) => (problem = told);

  $effect(() => {
    if (job?.state !== "done") return;
    const made = job.result.mod as number;
    untrack(() => {
      modal.close();
      taken(made);
    });
  });

  async function send(file: File | undefined) {
    if (!file) return;
    [look, sent, begun] = [null, 0, 0];
    const address = `/api/games/${app.gameId}/packages`;
    await attempted(async () => {
      look = await upload<PackageLook>(address, file, {}, (share) => (sent = share));
    }, tell);
    sent = null;
  }
  const take = () =>
    attempted(async () => {
      const path = { game_id: app.gameId, token: look!.token };
      const started = await got(api.POST("/api/games/{game_id}/packages/{token}", { params: { path } }));
      begun = started.id;
      app.started(started);
    }, tell);
</script>

<Modal bind:this={modal} label="Take in a package" width="w-[36rem]" onclose={close}>
  <h2 class="text-lg font-bold">Take in a package</h2>
  <p class="text-quiet">
    A ZIP file that somebody packed with Zubret. You see what is in it before a mod is made of it.
  </p>
  <input
    type="file"
    accept=".zip"
    class="file-input mt-3 w-full"
    aria-label="Package"
    disabled={running}
    onchange={(e) => send(e.currentTarget.files?.[0])}
  />
  {#if sent !== null}
    <progress class="progress progress-primary mt-3 w-full" value={sent} max="1" aria-label="Sending"
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
  {/if}
  {#if running && job}<div class="mt-3"><JobPanel {job} /></div>{/if}
  <div class="mt-4 flex justify-end gap-2">
    <button class="btn" onclick={() => modal.close()}>Close</button>
    {#if look && !running}<button class="btn btn-primary" onclick={take}>Take it in</button>{/if}
  </div>
</Modal>
