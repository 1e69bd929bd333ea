<script lang="ts">
  import type { Forecast } from "../lib/api";
  import { bytes } from "../lib/format";

  /** Room that an install takes: at its worst moment, when it is done, and what is free. */
  let { forecast }: { forecast: Forecast } = $props();
  const tight = $derived(forecast.most > forecast.free || forecast.backups > forecast.free_for_backups);
</script>

<dl class="flex flex-wrap gap-x-8 gap-y-1" class:text-error={tight}>
  <div class="flex gap-2">
    <dt class="text-quiet">at its worst moment it takes</dt>
    <dd class="num">{bytes(forecast.most)}</dd>
  </div>
  <div class="flex gap-2">
    <dt class="text-quiet">{forecast.end < 0 ? "in the end it frees" : "in the end"}</dt>
    <dd class="num">{bytes(Math.abs(forecast.end))}</dd>
  </div>
  {#if forecast.backups}
    <div class="flex gap-2">
      <dt class="text-quiet">copies of the originals, on the disk of Zubret's data</dt>
      <dd class="num">{bytes(forecast.backups)} of {bytes(forecast.free_for_backups)} free</dd>
    </div>
  {/if}
  <div class="flex gap-2">
    <dt class="text-quiet">free on the game's disk</dt>
    <dd class="num">{bytes(forecast.free)}</dd>
  </div>
  {#if tight}<p class="basis-full">■ There is not enough room. Free some, then come back.</p>{/if}
</dl>
