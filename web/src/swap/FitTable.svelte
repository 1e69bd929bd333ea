<script lang="ts">
  import type { Swap } from "../lib/api";

  /** The fit report: a verdict in words, and beside it what would be done. */
  let { swap, fit }: { swap: Swap; fit: (point: string) => Promise<void> } = $props();

  const open = $derived(swap.points.filter((p) => p.verdict === "can be fitted" && p.fixable).length);
  const SIGNS: Record<string, [string, string]> = {
    fits: ["✓", "text-success"],
    "can be fitted": ["↻", "text-primary"],
    blocks: ["■", "text-error"],
  };
</script>

<div class="overflow-x-auto">
  <table class="w-full min-w-[680px]" aria-label="Fit report">
    <thead>
      <tr class="h-9 border-b border-line text-left text-quiet">
        <th class="pr-3 font-normal">point</th>
        <th class="px-3 text-right font-normal">original</th>
        <th class="px-3 text-right font-normal">new</th>
        <th class="px-3 font-normal">verdict</th>
        <th class="pl-3 font-normal">
          what Zubret would do
          {#if open}
            <button class="btn btn-primary btn-sm ml-2" onclick={() => fit("all")}>Fit all that can be</button
            >
          {/if}
        </th>
      </tr>
    </thead>
    <tbody>
      {#each swap.points as p (p.key)}
        {@const [sign, tone] = SIGNS[p.verdict] ?? ["", ""]}
        <tr class="h-[31px] border-b border-line" data-point={p.key}>
          <td class="pr-3 font-medium whitespace-nowrap">{p.label}</td>
          <td class="num px-3 text-right whitespace-nowrap text-quiet">{p.original}</td>
          <td class="num px-3 text-right whitespace-nowrap">{p.new}</td>
          <td class="px-3 whitespace-nowrap {tone}">{sign} {p.verdict}</td>
          <td class="pl-3 text-quiet">
            {p.action}
            {#if p.verdict === "can be fitted" && p.fixable}
              <button class="btn btn-xs ml-1.5" aria-label="Fit {p.label}" onclick={() => fit(p.key)}
                >Fit</button
              >
            {/if}
            {#if p.verdict === "can be fitted" && !p.required}<span> (as you like)</span>{/if}
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>
