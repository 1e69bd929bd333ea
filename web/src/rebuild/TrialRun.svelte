<script lang="ts">
  import { api, attempted, got, type Build, type ProblemText, type Result, type Trial } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { clock, spaced } from "../lib/format";
  import { growing } from "../lib/growing.svelte";
  import { itemOf } from "../lib/items";
  import { player } from "../lib/player.svelte";

  /** Hearing what a rebuild has written: the streams read back, and in the stand-in where one plays the game. */
  let {
    build,
    installed = false,
    tell,
  }: {
    build: Build;
    /** Whether the stand-in plays from the game's own folder. */
    installed?: boolean;
    tell: (problem: ProblemText | null) => void;
  } = $props();
  let loops = $state(2);

  const job = $derived(app.openJobs.find((j) => j.kind === "trial"));
  const results = growing<Result>(() => ({
    key: ofGame(app.gameId, "results", build.id),
    ask: (offset) =>
      got(
        api.GET("/api/builds/{build_id}/results", {
          params: { path: { build_id: build.id }, query: { offset } },
        }),
      ),
  }));

  const tryIt = (swap_id: number) =>
    attempted(async () => {
      const params = { path: { build_id: build.id } };
      const begun = await got(
        api.POST("/api/builds/{build_id}/trials", { params, body: { swap_id, loops, installed } }),
      );
      app.started(begun.job);
    }, tell);

  function hearTrial(t: Trial) {
    const heard = { audio: t.audio, rate: t.rate, channels: t.channels, frames: t.frames, loop: null };
    player.load(
      {
        title: `Trial run: ${t.title.split(" › ").at(-1)}`,
        place: `trial ${t.id} of ${t.title}`,
        original: null,
        fresh: heard,
      },
      "new",
    );
    void player.start(0);
  }

  async function hearResult(swap_id: number, audio: string) {
    const swap = await app.attempt(api.GET("/api/swaps/{swap_id}", { params: { path: { swap_id } } }));
    if (!swap?.stream || !swap.new) return;
    const item = itemOf(swap.stream, swap);
    player.load(
      {
        ...item,
        title: `Rebuilt: ${item.title}`,
        place: `rebuilt ${item.place}`,
        fresh: { ...item.fresh!, audio },
      },
      "new",
    );
    void player.start(0);
  }
</script>

<section aria-label="Trial run">
  <div class="flex flex-wrap items-center gap-4">
    <h2 class="font-semibold">Trial run{installed ? " from the game’s own folder" : ""}</h2>
    {#if results.settled && !results.total}
      <p class="text-quiet">The stand-in plays swapped streams; this mod swaps none.</p>
    {:else if app.game?.player}
      <label class="flex items-center gap-2"
        >loops <input
          class="input input-sm num w-16"
          type="number"
          min="1"
          max="20"
          bind:value={loops}
        /></label
      >
    {:else}
      <p class="text-quiet">
        No stand-in plays this game: download the files and try them in the game itself.
      </p>
    {/if}
  </div>
  <ul class="mt-2">
    {#each results.rows as r (r.swap_id)}
      <li class="flex flex-wrap items-center justify-between gap-3 border-b border-line py-2">
        <span class="num min-w-0 break-all">{r.title}</span>
        <span class="flex flex-wrap gap-2">
          <button class="btn btn-sm" onclick={() => hearResult(r.swap_id, r.audio)}
            >Hear the rebuilt stream</button
          >
          {#if app.game?.player}
            <button class="btn btn-sm" disabled={!!job} onclick={() => tryIt(r.swap_id)}
              >Play it in {app.game.name}</button
            >
          {/if}
        </span>
      </li>
    {/each}
  </ul>
  {#if results.rows.length < results.total}
    <button class="btn btn-sm mt-3" onclick={results.more}
      >Show more ({spaced(results.rows.length)} of {spaced(results.total)} streams)</button
    >
  {/if}
  {#if job}
    <p role="status" class="mt-3 flex items-center gap-2 text-quiet">
      <span class="loading loading-spinner loading-sm"></span>{job.note || "starting the game"}
      <button class="btn btn-xs" onclick={() => app.cancel(job)}>Cancel</button>
    </p>
  {/if}
  {#each build.trials.filter((t) => t.played !== null) as t (t.id)}
    <article class="mt-3 rounded-box bg-base-200 p-3" aria-label="Trial run {t.id}">
      <div class="flex flex-wrap items-center justify-between gap-3">
        <p>
          {#if t.played}<strong class="text-success">✓ played</strong>
            <span class="num text-quiet"
              >{clock(t.frames / t.rate)} · {spaced(t.frames)} frames · {spaced(t.rate)} Hz</span
            >
          {:else}<strong class="text-error">■ refused</strong> {t.why}{/if}
        </p>
        {#if t.played}<button class="btn btn-sm" onclick={() => hearTrial(t)}>Listen</button>{/if}
      </div>
      <ol class="num mt-1 text-quiet">
        {#each t.log as line, i (i)}<li class="break-words">{line}</li>{/each}
      </ol>
    </article>
  {/each}
</section>
