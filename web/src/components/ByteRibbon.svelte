<script lang="ts">
  import type { Ribbon } from "../lib/api";
  import { bytes } from "../lib/format";

  /** A file's bytes to scale. `mark` is a span to be picked out. */
  let {
    ribbon,
    label,
    scale,
    mark,
  }: { ribbon: Ribbon; label: string; scale?: number; mark?: { at: number; length: number } } = $props();

  const whole = $derived(scale ?? ribbon.size);
  const kinds = $derived([...new Set(ribbon.segments.map((s) => s.kind))]);
  const FILL: Record<string, string> = {
    header: "bg-info",
    table: "bg-info",
    payload: "bg-quiet",
    new: "bg-primary",
    padding: "bg-base-300",
    unexplained: "hatched",
  };
  const NAMES: Record<string, string> = { new: "new payload" };
</script>

<figure aria-label="{label}: {bytes(ribbon.size)}, {(ribbon.explained * 100).toFixed(1)} % explained">
  <div
    class="relative flex h-[22px] overflow-hidden rounded-[6px] border border-line"
    style="width: {(ribbon.size / whole) * 100}%"
  >
    {#each ribbon.segments as s (s.at)}
      <span
        class="{FILL[s.kind] ?? ''} h-full min-w-[2px] {s.kind === 'payload' ? 'seg' : ''}"
        style="flex: {s.length} 0 0"
        title="{NAMES[s.kind] ?? s.kind}: {bytes(s.length)} at byte {s.at}"
      ></span>
    {/each}
    {#if mark}
      <span
        class="absolute inset-y-0 rounded-[4px] border-2 border-primary bg-primary/50"
        style="left: {(mark.at / ribbon.size) * 100}%; width: max(4px, {(mark.length / ribbon.size) * 100}%)"
      ></span>
    {/if}
  </div>
  <figcaption class="mt-1 flex flex-wrap justify-between gap-x-4 text-[0.85rem] text-quiet">
    <span class="flex flex-wrap gap-x-3">
      {#each kinds as kind (kind)}
        <span class="flex items-center gap-1"
          ><i class="{FILL[kind] ?? ''} inline-block h-2.5 w-2.5 rounded-[2px] border border-line"></i>{NAMES[
            kind
          ] ?? kind}</span
        >
      {/each}
    </span>
    <span class="num">{(ribbon.explained * 100).toFixed(1)} % explained · {bytes(ribbon.size)}</span>
  </figcaption>
</figure>

<style>
  .seg {
    opacity: 0.6;
    border-right: 1px solid var(--color-base-100);
  }
</style>
