<script lang="ts">
  import { api, type TakeOutPlan } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { TakingOut } from "../lib/takeout.svelte";
  import { bytes, spaced } from "../lib/format";
  import TakeOutDialog from "./TakeOutDialog.svelte";

  /** What is taken out: chosen entries; those of archives that a filter leaves; those of files of the survey; else all. */
  export interface Selection {
    archives?: number[];
    q?: string;
    entries?: number[];
    files?: number[];
    title: string;
  }
  let { selection, close }: { selection: Selection; close: () => void } = $props();
  let flat = $state(false);
  const out = new TakingOut<TakeOutPlan>();

  const game_id = app.gameId;
  const body = $derived({
    archives: selection.archives ?? [],
    q: selection.q ?? "",
    entries: selection.entries ?? [],
    files: selection.files ?? [],
    flat,
    folder: out.target,
  });

  $effect(() => {
    const wanted = body;
    if (!out.started)
      return out.ask(() =>
        api.POST("/api/games/{game_id}/take-out/plan", { params: { path: { game_id } }, body: wanted }),
      );
  });

  const start = () =>
    out.begin(api.POST("/api/games/{game_id}/take-out", { params: { path: { game_id } }, body }));
</script>

<TakeOutDialog
  title="Take out"
  subtitle={selection.title}
  width="w-[38rem]"
  noun="entry"
  sized
  {out}
  {start}
  {close}
>
  {#snippet beside()}
    <label class="flex items-center gap-2"
      ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={flat} /> without folders</label
    >
  {/snippet}
  {#snippet needs(plan)}
    <strong class="num">{spaced(plan.files)}</strong>
    {plan.files === 1 ? "file" : "files"} ·
    <strong class="num">{bytes(plan.bytes)}</strong>
    <span class="text-quiet">· the disk has {bytes(plan.free)} free</span>
    {#if plan.there}<span class="block text-quiet"
        >{spaced(plan.there)}{plan.looked < plan.files ? ` of the first ${spaced(plan.looked)}` : ""} are there
        already, from before; they are not written again.</span
      >{/if}
  {/snippet}
</TakeOutDialog>
