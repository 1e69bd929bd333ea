<script lang="ts">
  import { setQueryClientContext } from "@tanstack/svelte-query";
  import Finder from "./components/Finder.svelte";
  import Keys from "./components/Keys.svelte";
  import ProblemPanel from "./components/ProblemPanel.svelte";
  import RouteBar from "./components/RouteBar.svelte";
  import Strip from "./components/Strip.svelte";
  import { app } from "./lib/app.svelte";
  import { cache, tellProblems } from "./lib/cache";
  import { keepFocus } from "./lib/focus";
  import { player } from "./lib/player.svelte";
  import { keepTogether } from "./lib/windows";
  import Changes from "./stations/Changes.svelte";
  import Inside from "./stations/Inside.svelte";
  import Install from "./stations/Install.svelte";
  import Lines from "./stations/Lines.svelte";
  import Locate from "./stations/Locate.svelte";
  import Mods from "./stations/Mods.svelte";
  import Rebuild from "./stations/Rebuild.svelte";
  import Settings from "./stations/Settings.svelte";
  import Start from "./stations/Start.svelte";
  import StreamPage from "./stations/StreamPage.svelte";
  import Survey from "./stations/Survey.svelte";
  import Swap from "./stations/Swap.svelte";
  import Unknown from "./stations/Unknown.svelte";

  setQueryClientContext(cache);
  tellProblems((problem) => (app.problem = problem));
  keepTogether();
  keepFocus();
  void app.begin();

  function typing(target: EventTarget | null): boolean {
    return (
      target instanceof HTMLElement &&
      !!target.closest("input:not([type=checkbox]), textarea, select, [contenteditable]")
    );
  }

  function onkeydown(e: KeyboardEvent) {
    if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
      e.preventDefault();
      app.searching = true;
      return;
    }
    if (typing(e.target) || e.ctrlKey || e.metaKey || e.altKey || app.searching || app.explaining) return;
    const key = e.key.toLowerCase();
    if (key === " " && !(e.target as HTMLElement).closest("button, a, summary, [role=option], input"))
      player.toggle();
    else if (key === "o") player.change(player.side === "new" ? "original" : "new");
    else if (key === "s") player.seam();
    else if (key === "?") app.explaining = true;
    else if (key === "/") document.querySelector<HTMLInputElement>("main input[type=search]")?.focus();
    else return;
    e.preventDefault();
  }
</script>

<svelte:window {onkeydown} />

<div class="flex h-dvh flex-col">
  <RouteBar />
  {#if app.problem}
    <div class="px-4 pt-3"><ProblemPanel problem={app.problem} close={() => (app.problem = null)} /></div>
  {/if}
  <main class="min-h-0 grow overflow-auto">
    {#if !app.loaded}
      <p class="p-8 text-quiet">Loading …</p>
    {:else if app.settings}
      <Settings />
    {:else if !app.game}
      <Start />
    {:else}
      {#key `${app.gameId} ${["bench", "unknown", "inside"].includes(app.station) ? app.detail : ""}`}
        {#if app.station === "survey"}<Survey />
        {:else if app.station === "locate"}<Locate />
        {:else if app.station === "swap"}<Swap />
        {:else if app.station === "stream"}<StreamPage />
        {:else if app.station === "lines"}<Lines />
        {:else if app.station === "unknown"}<Unknown />
        {:else if app.station === "inside"}<Inside />
        {:else if app.station === "mods"}<Mods />
        {:else if app.station === "install"}<Install />
        {:else if app.station === "changes"}<Changes />
        {:else if app.station === "bench"}{#await import("./stations/Bench.svelte") then { default: Bench }}<Bench
            />{/await}
        {:else}<Rebuild />{/if}
      {/key}
    {/if}
  </main>
  {#if app.notice}
    <div
      role="status"
      class="fixed bottom-24 left-1/2 z-20 flex -translate-x-1/2 items-center gap-4 rounded-box border border-edge bg-base-300 px-4 py-2 shadow-lg"
    >
      {app.notice.text}
      {#if app.notice.action}
        {@const action = app.notice.action}
        <button
          class="btn btn-sm"
          onclick={() => {
            action.run();
            app.notice = null;
          }}>{action.label}</button
        >
      {/if}
    </div>
  {/if}
  <Strip />
  <Finder />
  {#if app.explaining}<Keys />{/if}
</div>
