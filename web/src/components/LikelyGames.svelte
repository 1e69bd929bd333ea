<script lang="ts">
  import { onMount } from "svelte";
  import { api, asProblem, got, type Job, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, count } from "../lib/format";

  /** Folders of this machine that look like a game, found by looking; and the demo game. */
  let { choose, failed }: { choose: (path: string) => void; failed: (problem: ProblemText) => void } =
    $props();
  interface Likely {
    path: string;
    files: number;
    bytes: number;
    program: boolean;
  }

  let asked = $state<Job | null>(null);
  let demo = $state<number | null>(null);
  const job = $derived(app.jobs.find((j) => j.id === asked?.id) ?? asked);
  const looking = $derived(job?.state === "waiting" || job?.state === "running");
  const known = $derived(new Set(app.games.map((g) => g.folder)));
  const found = $derived(
    ((job?.result.found as Likely[] | undefined) ?? []).filter((g) => !known.has(g.path)),
  );
  const made = $derived(app.jobs.find((j) => j.id === demo));
  const making = $derived(made?.state === "waiting" || made?.state === "running");

  async function look(again: boolean) {
    try {
      asked = await got(api.POST("/api/likely-games", { params: { query: { again } } }));
      app.started(asked);
    } catch (error) {
      failed(asProblem(error));
    }
  }
  onMount(() => void look(false));

  async function makeDemo() {
    try {
      const begun = await got(api.POST("/api/demo-game"));
      demo = begun.id;
      app.started(begun);
    } catch (error) {
      failed(asProblem(error));
    }
  }

  $effect(() => {
    const ended = made;
    if (!ended || making) return;
    demo = null;
    if (ended.error) failed(ended.error);
    const game = ended.result.game as number | undefined;
    if (ended.state === "done" && game) void app.loadGames().then(() => app.go("survey", "", game));
  });
</script>

<section aria-labelledby="likely">
  <div class="flex items-baseline justify-between gap-3">
    <h2 id="likely" class="font-semibold">Looks like a game</h2>
    {#if looking}
      <button class="btn btn-xs" onclick={() => job && app.cancel(job)}>Stop looking</button>
    {:else}
      <button class="btn btn-xs" onclick={() => look(true)}>Look again</button>
    {/if}
  </div>
  <ul class="mt-2 max-h-96 overflow-auto border-y border-line">
    {#each found as game (game.path)}
      <li class="border-b border-line last:border-0">
        <button class="w-full px-2 py-1.5 text-left hover:bg-base-200" onclick={() => choose(game.path)}>
          <span class="flex justify-between gap-3">
            <span class="truncate font-medium">{game.path.split(/[\\/]/).pop()}</span>
            <span class="shrink-0 text-quiet"
              >{game.program ? "a program, " : ""}{count(game.files, "large file")},
              <span class="num text-base-content">{bytes(game.bytes)}</span></span
            >
          </span>
          <span class="num block break-all text-quiet">{game.path}</span>
        </button>
      </li>
    {:else}
      <li class="px-2 py-3 text-quiet" aria-live="polite">
        {looking
          ? "Looking, by names and sizes only …"
          : "No folder with a program and large files was found. Paste the game's path on the left."}
      </li>
    {/each}
  </ul>
</section>

{#if !app.games.some((g) => g.player)}
  <section class="mt-5 border-t border-line pt-4" aria-labelledby="demo">
    <h2 id="demo" class="font-semibold">No game at hand?</h2>
    <p class="mt-1 text-quiet">A small made-up game has all that Zubret can do in it.</p>
    <div class="mt-2 flex items-center gap-3">
      <button class="btn btn-sm" disabled={making} onclick={makeDemo}>Try the demo game</button>
      {#if made && making}
        <span class="min-w-0 truncate text-quiet" aria-live="polite"
          >{made.note || "Waiting for its turn"}</span
        >
        <button class="btn btn-xs" onclick={() => app.cancel(made)}>Cancel</button>
      {/if}
    </div>
  </section>
{/if}
