<script lang="ts">
  import type { Swap } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { stateOf } from "./swaps";

  /** The takes that wait for one stream: which is seen and heard, and which the mod has. */
  let {
    takes,
    current,
    choose,
    remove,
  }: { takes: Swap[]; current: Swap; choose: () => void; remove: () => void } = $props();
</script>

<div class="mt-2 flex flex-wrap items-center gap-2" role="group" aria-label="Takes">
  <span class="text-quiet">takes</span>
  {#each takes as take, n (take.id)}
    {@const st = stateOf(take)}
    <a
      href="#/{app.gameId}/swap/{take.id}"
      aria-current={take.id === current.id ? "true" : undefined}
      title="{take.source_name}, {st.text}{take.chosen ? ', the one that the mod has' : ''}"
      class="flex max-w-72 items-baseline gap-1.5 rounded-field border px-2 py-0.5 {take.id === current.id
        ? 'border-primary bg-base-300 font-semibold'
        : 'border-line hover:bg-base-300'}"
    >
      <span class="num text-quiet">{n + 1}</span>
      <span class="truncate">{take.source_name}</span>
      <span class="shrink-0 {st.tone}">{st.sign}</span>
      {#if take.chosen}<span class="shrink-0 whitespace-nowrap text-success">in the mod</span>{/if}
    </a>
  {/each}
  {#if !current.chosen}
    <button class="btn btn-sm btn-primary" onclick={choose}>Use this take</button>
  {/if}
  <button class="btn btn-sm" onclick={remove}>Remove this take</button>
  <span class="text-quiet"><kbd class="kbd kbd-sm">T</kbd> the next</span>
</div>
