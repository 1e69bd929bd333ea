<script lang="ts">
  import { untrack } from "svelte";
  import { api, asProblem, got, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, count } from "../lib/format";
  import { newest } from "../lib/newest";

  /** An entry of the game that is a table: found by a part of its path. */
  let { chosen }: { chosen: (entry: { id: number; name: string }) => void } = $props();
  const FEW = 8;
  let text = $state("text");
  let rows = $state.raw<{ id: number; path: string; size: number }[]>([]);
  let total = $state(0);
  let problem = $state<ProblemText | null>(null);
  let asked = $state(false);
  const asking = newest();

  $effect(() => {
    const q = text.trim();
    const timer = setTimeout(() => void look(q), untrack(() => asked) ? 150 : 0);
    return () => clearTimeout(timer);
  });

  async function look(q: string) {
    const current = asking();
    try {
      const page = await got(
        api.GET("/api/games/{game_id}/entries", {
          params: { path: { game_id: app.gameId }, query: { q, limit: FEW, sort: "path" } },
        }),
      );
      if (current()) [rows, total, problem] = [page.rows, page.total ?? 0, null];
    } catch (error) {
      if (current()) [rows, total, problem] = [[], 0, asProblem(error)];
    }
    asked = true;
  }
</script>

<div class="mt-3 rounded-box border border-line p-2" role="group" aria-label="A table of the game">
  <label class="flex items-center gap-2">
    <span class="text-quiet">entries with</span>
    <!-- svelte-ignore a11y_autofocus -->
    <input class="input input-sm grow" autofocus aria-label="A part of its path" bind:value={text} />
    <span class="num text-quiet" role="status">{asked ? count(total, "entry") : ""}</span>
  </label>
  {#if problem}<p class="mt-2 text-error">{problem.what} {problem.next}</p>{/if}
  <ul class="mt-1">
    {#each rows as row (row.id)}
      <li>
        <button
          class="flex w-full gap-3 rounded-field px-2 py-1 text-left hover:bg-base-200"
          onclick={() => chosen({ id: row.id, name: row.path })}
        >
          <span class="num grow break-all">{row.path}</span>
          <span class="num shrink-0 text-quiet">{bytes(row.size)}</span>
        </button>
      </li>
    {:else}
      {#if asked}<li class="px-2 py-1 text-quiet">
          No entry of the game has this in its path. A file beside the archives can be chosen as any other.
        </li>{/if}
    {/each}
    {#if total > FEW}<li class="px-2 py-1 text-quiet">Write more of the path to see the others.</li>{/if}
  </ul>
</div>
