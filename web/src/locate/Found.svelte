<script lang="ts">
  import type { StreamPage } from "../lib/api";
  import { bytes, duration, spaced } from "../lib/format";

  /** What is listed, streams or their banks, and how many were found. */
  let {
    banks = $bindable(),
    groups,
    streams,
    head,
  }: { banks: boolean; groups: number; streams: number; head: StreamPage | null } = $props();
</script>

<div class="join" role="group" aria-label="What is listed">
  {#each [false, true] as which (which)}
    <button
      class={["btn btn-sm join-item", banks === which && "border-primary! font-semibold"]}
      aria-pressed={banks === which}
      onclick={() => (banks = which)}>{which ? "Banks" : "Streams"}</button
    >
  {/each}
</div>
<p class="grow max-md:basis-40">
  {#if banks}<strong class="num text-base">{spaced(groups)}</strong>
    <span class="text-quiet">{groups === 1 ? "place" : "places"} with</span>{/if}
  <strong class="num text-base">{spaced(streams)}</strong>
  <span class="text-quiet">
    {streams === 1 ? "stream" : "streams"}
    <span class="max-md:hidden">· {duration(head?.seconds ?? 0)} · {bytes(head?.bytes ?? 0)}</span>
    <span class="max-[1500px]:hidden"
      >· <kbd class="kbd kbd-sm">↑</kbd> <kbd class="kbd kbd-sm">↓</kbd> listen ·
      <kbd class="kbd kbd-sm">?</kbd> keys</span
    >
  </span>
</p>
