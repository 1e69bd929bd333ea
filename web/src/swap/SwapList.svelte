<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import type { Swap } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { streamTitle } from "../lib/items";
  import { filesPut } from "../survey/put";

  /** What the mod changes: its swaps, and whole files in archives. */
  let { swaps, current }: { swaps: Swap[] | undefined; current: Swap | undefined } = $props();

  const files = createQuery(() => filesPut(app.gameId, app.game!.mod_id));
  const STATE: Record<string, { sign: string; text: string; tone: string }> = {
    reading: { sign: "…", text: "reading", tone: "text-quiet" },
    preparing: { sign: "…", text: "preparing", tone: "text-quiet" },
    ready: { sign: "✓", text: "fits", tone: "text-success" },
    open: { sign: "↻", text: "can be fitted", tone: "text-primary" },
    failed: { sign: "■", text: "failed", tone: "text-error" },
  };
  const stateOf = (s: Swap) =>
    s.state === "open" && s.verdict === "blocks"
      ? { sign: "■", text: "blocks", tone: "text-error" }
      : STATE[s.state]!;
</script>

<p class="text-quiet">Swaps of this mod</p>
{#each swaps ?? [] as s (s.id)}
  {@const st = stateOf(s)}
  <a
    href="#/{app.gameId}/swap/{s.id}"
    class="rounded-field border-l-[3px] px-2.5 py-1.5 {s.id === current?.id
      ? 'border-primary bg-base-300'
      : 'border-transparent hover:bg-base-300'}"
    aria-current={s.id === current?.id ? "true" : undefined}
  >
    <span class="flex items-baseline justify-between gap-2">
      <span class="truncate font-semibold">{s.stream ? streamTitle(s.stream) : s.place}</span>
      <span class="shrink-0 {st.tone}">{st.sign} {st.text}</span>
    </span>
    <span class="block truncate text-quiet">{s.source_name}</span>
  </a>
{:else}
  {#if swaps}<p>None yet. Choose a stream in Locate, then swap it.</p>{/if}
{/each}
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
