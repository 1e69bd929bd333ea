<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { api, got } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { spaced } from "../lib/format";
  import Self from "./Places.svelte";

  /** The folders, archives and banks in one of them, each of which opens; a press narrows the list to it. */
  let {
    within = "",
    chosen,
    choose,
    depth = 0,
  }: { within?: string; chosen: string; choose: (path: string) => void; depth?: number } = $props();

  const MOST = 200;
  /** What lies around the chosen place stands open. */
  const around = (path: string) => chosen.startsWith(`${path}/`) || chosen.startsWith(`${path} › `);
  let turned = $state<Record<string, boolean>>({});
  const opened = (path: string) => turned[path] ?? around(path);

  const places = createQuery(() => ({
    queryKey: ofGame(app.gameId, "places", within),
    queryFn: () =>
      got(
        api.GET("/api/games/{game_id}/places", {
          params: { path: { game_id: app.gameId }, query: { within, limit: MOST } },
        }),
      ),
  }));
  const SIGNS: Record<string, string> = { folder: "▤", archive: "▣", bank: "♪" };
  const WORDS: Record<string, string> = { folder: "folder", archive: "archive", bank: "bank" };

  /** Up and down go along what is in view, left and right close and open. */
  function onkeydown(e: KeyboardEvent & { currentTarget: HTMLElement }, path: string, opens: boolean) {
    const tree = e.currentTarget.closest("[role=tree]")!;
    const all = [...tree.querySelectorAll<HTMLElement>("[data-place]")];
    const here = all.indexOf(e.currentTarget);
    if (e.key === "ArrowDown") all[here + 1]?.focus();
    else if (e.key === "ArrowUp") all[here - 1]?.focus();
    else if (e.key === "Home") all[0]?.focus();
    else if (e.key === "End") all.at(-1)?.focus();
    else if (e.key === "ArrowRight" && opens) turned[path] = true;
    else if (e.key === "ArrowLeft" && opens && opened(path)) turned[path] = false;
    else return;
    e.preventDefault();
  }
</script>

<ul role={depth ? "group" : "tree"} aria-label={depth ? undefined : "Folders and banks"}>
  {#if !depth}
    <li role="treeitem" aria-selected={!chosen}>
      <button
        data-place
        class="w-full truncate rounded px-1.5 py-0.5 text-left {chosen ? '' : 'bg-base-300'}"
        onclick={() => choose("")}
        onkeydown={(e) => onkeydown(e, "", false)}>the whole game</button
      >
    </li>
  {/if}
  {#each places.data?.rows ?? [] as place (place.path)}
    {@const open = place.opens && opened(place.path)}
    <li role="treeitem" aria-selected={chosen === place.path} aria-expanded={place.opens ? open : undefined}>
      <div class="flex items-center" style="padding-left: {depth * 12}px">
        {#if place.opens}
          <button
            class="w-5 shrink-0 text-quiet"
            tabindex="-1"
            aria-label="{open ? 'Close' : 'Open'} {place.name}"
            onclick={() => (turned[place.path] = !open)}>{open ? "▾" : "▸"}</button
          >
        {:else}<span class="w-5 shrink-0"></span>{/if}
        <button
          data-place
          class="flex min-w-0 grow items-baseline gap-1.5 rounded px-1.5 py-0.5 text-left hover:bg-base-300 {chosen ===
          place.path
            ? 'bg-base-300'
            : ''}"
          title="{WORDS[place.what]} {place.path}"
          onclick={() => choose(place.path)}
          onkeydown={(e) => onkeydown(e, place.path, place.opens)}
        >
          <span class="text-quiet" aria-hidden="true">{SIGNS[place.what]}</span>
          <span class="min-w-0 grow truncate"
            >{place.what === "bank" ? place.name.split("/").at(-1) : place.name || "not in a folder"}</span
          >
          <span class="num shrink-0 text-quiet">{spaced(place.streams)}</span>
        </button>
      </div>
      {#if open}<Self within={place.path} {chosen} {choose} depth={depth + 1} />{/if}
    </li>
  {/each}
  {#if (places.data?.total ?? 0) > MOST}
    <li class="px-2 text-quiet">{spaced(places.data!.total - MOST)} more: search for part of their names</li>
  {/if}
</ul>
