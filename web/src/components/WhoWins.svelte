<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { api, got } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";

  /** Where several places hold the file of a stream: who wins, and by which rule. Nothing where only one does. losers: nothing either
   * where this stream wins. */
  let { stream, losers = false }: { stream: number; losers?: boolean } = $props();

  const found = createQuery(() => ({
    queryKey: ofGame(app.gameId, "who wins", stream),
    queryFn: () =>
      got(api.GET("/api/streams/{stream_id}/who-wins", { params: { path: { stream_id: stream } } })),
    meta: { shown: true },
  }));
  const rows = $derived(found.data?.rows ?? []);
  const loses = $derived((found.data?.own ?? 0) > 0);
</script>

{#if losers ? loses : rows.length > 1}
  <section aria-label="Who wins" class="border-l-2 pl-3 {loses ? 'border-info' : 'border-line'}">
    <p class={loses ? "font-semibold text-info" : "text-quiet"}>
      {loses ? "▲ The game plays another one" : "● The game plays this one"}
    </p>
    <ol class="mt-1 space-y-1">
      {#each rows as row, n (row.place + row.path)}
        <li>
          <span class="num break-all" class:text-quiet={n > 0}>{row.place || "the game’s folder"}</span>
          {#if n === found.data?.own}<span class="text-quiet">this one</span>{:else if row.stream}
            <a class="underline" href="#/{app.gameId}/stream/s{row.stream}">look at it</a>
          {/if}
          {#if row.why}<span class="block text-quiet">{row.why}</span>{/if}
        </li>
      {/each}
    </ol>
  </section>
{/if}
