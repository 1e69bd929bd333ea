<script lang="ts">
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, asProblem, got, type Conflict, type Conflicts } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { count, spaced } from "../lib/format";
  import { growing } from "../lib/growing.svelte";

  /** The streams that several mods want, and who wins each. */
  let { change }: { change: (what: () => Promise<unknown>) => Promise<unknown> } = $props();

  const path = { game_id: app.gameId };
  const found = growing<Conflict, Conflicts>(() => ({
    key: ofGame(app.gameId, "conflicts"),
    ask: (offset) => got(api.GET("/api/games/{game_id}/conflicts", { params: { path, query: { offset } } })),
  }));
  const entries = $derived(found.first?.entries ?? []);
  const total = $derived(found.first?.entries_total ?? 0);
  const turn = (locator: string, mod: number | null) =>
    change(() =>
      got(api.PUT("/api/games/{game_id}/conflicts", { params: { path }, body: { locator, mod } })),
    );
</script>

<section aria-label="Wanted by several">
  <h2 class="font-semibold">
    {found.total
      ? `${count(found.total, "stream")} wanted by several mods`
      : "No two mods want the same stream"}
  </h2>
  {#if found.error}<ProblemPanel problem={asProblem(found.error)} />{/if}
  <ul class="mt-2">
    {#each found.rows as c (c.locator)}
      <li class="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-line py-2">
        <span class="num min-w-64 grow break-all">{c.place}</span>
        <span class="flex flex-wrap gap-x-4" role="radiogroup" aria-label="Who wins {c.place}">
          {#each c.wants as w (w.mod)}
            <label class="flex items-center gap-1.5 {w.mod === c.winner ? 'font-semibold' : 'text-quiet'}">
              <input
                type="radio"
                class="radio radio-sm"
                name={c.locator}
                checked={w.mod === c.winner}
                onchange={() => turn(c.locator, w.mod)}
              />
              <a class="underline" href="#/{app.gameId}/swap/{w.swap}" title={w.source_name}>{w.name}</a>
              {#if w.mod === c.winner}wins{/if}
            </label>
          {/each}
        </span>
        <span class="w-40 text-right">
          {#if c.turned}
            <button
              class="btn btn-xs"
              aria-label="Go by the order: {c.place}"
              onclick={() => turn(c.locator, null)}>Go by the order</button
            >
          {:else}<span class="text-quiet">by the order</span>{/if}
        </span>
      </li>
    {/each}
  </ul>
  {#if found.rows.length < found.total}
    <button class="btn btn-sm mt-2" onclick={found.more}
      >Show more ({spaced(found.rows.length)} of {spaced(found.total)})</button
    >
  {/if}
</section>
{#if total}
  <section aria-label="Entries wanted by several">
    <h2 class="font-semibold">
      {count(total, "whole entry")} wanted by several mods
    </h2>
    <ul class="mt-2">
      {#each entries as o (o.place)}
        <li class="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-line py-2">
          <span class="num min-w-64 grow break-all">{o.place}</span>
          {#each o.wants as w (w.mod)}
            <span class={w.wins ? "font-semibold" : "text-quiet"}
              >{w.name}
              <span class="font-normal text-quiet"
                >({w.streams ? count(w.streams, "stream") : "all of it"})</span
              >{w.wins ? " wins" : ""}</span
            >
          {/each}
          <span class="w-40 text-right text-quiet">by the order</span>
        </li>
      {/each}
    </ul>
    {#if total > entries.length}
      <p class="mt-2 text-quiet">and {spaced(total - entries.length)} more</p>
    {/if}
  </section>
{/if}
