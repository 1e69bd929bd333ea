<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { api, got, type Swap } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { count } from "../lib/format";
  import { streamTitle } from "../lib/items";
  import { filesPut } from "../survey/put";
  import { stateOf } from "./swaps";

  /** What the mod changes: its swaps, and whole files in archives. */
  let { swaps, current }: { swaps: Swap[] | undefined; current: Swap | undefined } = $props();

  const mods = createQuery(() => ({
    queryKey: ofGame(app.gameId, "mods"),
    queryFn: () => got(api.GET("/api/games/{game_id}/mods", { params: { path: { game_id: app.gameId } } })),
  }));
  const modName = $derived(mods.data?.find((m) => m.current)?.name ?? "Mods");
  const files = createQuery(() => filesPut(app.gameId, app.game!.mod_id));
  const chosen = $derived(swaps?.filter((s) => s.chosen));
  /** Of so many at most each has a line here; the others are on the line board. */
  const MOST = 150;
  const shown = $derived.by(() => {
    const at = chosen?.findIndex((s) => s.key === current?.key) ?? 0;
    const first = Math.max(0, Math.min(at - MOST / 2, (chosen?.length ?? 0) - MOST));
    return chosen?.slice(first, first + MOST);
  });
  const others = $derived((chosen?.length ?? 0) - (shown?.length ?? 0));
  const more = (s: Swap) => (swaps ?? []).filter((other) => other.key === s.key).length - 1;
</script>

<div class="flex items-baseline justify-between gap-2">
  <a
    class="min-w-0 truncate font-semibold text-primary underline"
    href="#/{app.gameId}/mods"
    title="{modName}: to all mods">{modName}</a
  >
  <a class="shrink-0 text-primary underline" href="#/{app.gameId}/lines">Line board</a>
</div>
{#each shown ?? [] as s (s.key)}
  {@const st = stateOf(s)}
  <a
    href="#/{app.gameId}/swap/{s.id}"
    class="rounded-field border-l-[3px] px-2.5 py-1.5 {s.key === current?.key
      ? 'border-primary bg-base-300'
      : 'border-transparent hover:bg-base-300'}"
    aria-current={s.key === current?.key ? "true" : undefined}
  >
    <span class="flex items-baseline justify-between gap-2">
      <span class="truncate font-semibold">{s.stream ? streamTitle(s.stream) : s.place}</span>
      <span class="shrink-0 {st.tone}">{st.sign} {st.text}</span>
    </span>
    <span class="flex justify-between gap-2 text-quiet">
      <span class="truncate">{s.source_name}</span>
      {#if more(s)}<span class="shrink-0">{count(more(s), "more take")}</span>{/if}
    </span>
  </a>
{:else}
  {#if swaps}<p>None yet. Choose a stream in Locate, then swap it.</p>{/if}
{/each}
{#if others}
  <a class="px-2.5 text-primary underline" href="#/{app.gameId}/lines?swapped=yes"
    >{count(others, "more swap")} on the line board</a
  >
{/if}
{#if files.data?.length}
  <p class="mt-3 text-quiet">Whole files in archives</p>
  {#each files.data as f (f.id)}
    <a
      href="#/{app.gameId}/survey/{encodeURIComponent(f.archive)}"
      class="rounded-field px-2.5 py-1.5 hover:bg-base-300"
    >
      <span class="block truncate font-semibold" title={f.entry}>{f.entry.split("/").at(-1)}</span>
      <span class="block truncate text-quiet">{f.adds ? "added from" : "replaced by"} {f.source_name}</span>
    </a>
  {/each}
{/if}
