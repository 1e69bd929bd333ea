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

<!-- On a narrow screen each point has lines of its own: its verdict, both sides, and what would be done. -->
<div>
  <table class="w-full max-md:block" aria-label="Fit report">
    <thead class="max-md:block">
      <tr class="h-9 border-b border-line text-left text-quiet max-md:flex max-md:items-center">
        <th class="pr-3 font-normal max-md:hidden">point</th>
        <th class="px-3 text-right font-normal max-md:hidden">original</th>
        <th class="px-3 text-right font-normal max-md:hidden">new</th>
        <th class="px-3 font-normal max-md:hidden">verdict</th>
        <th class="font-normal md:pl-3">
          what Zubret would do
          {#if open}
            <button
              class="btn btn-sm ml-2 {swap.verdict === 'fits' ? '' : 'btn-primary'}"
              onclick={() => fit("all")}>Fit all that can be</button
            >
          {/if}
        </th>
      </tr>
    </thead>
    <tbody class="max-md:block">
      {#each swap.points as p (p.key)}
        {@const [sign, tone] = SIGNS[p.verdict] ?? ["", ""]}
        <tr
          class="h-[31px] border-b border-line max-md:grid max-md:h-auto max-md:grid-cols-[1fr_auto] max-md:py-1.5"
          data-point={p.key}
        >
          <td class="pr-3 font-medium whitespace-nowrap max-md:order-1">{p.label}</td>
          <td class="num text-right text-quiet max-md:order-3 max-md:text-left md:px-3 md:whitespace-nowrap"
            >{p.original}</td
          >
          <td class="num text-right max-md:order-4 md:px-3 md:whitespace-nowrap"
            ><span class="text-quiet md:hidden">→ </span>{p.new}</td
          >
          <td class="whitespace-nowrap max-md:order-2 max-md:text-right md:px-3 {tone}">{sign} {p.verdict}</td
          >
          <td class="text-quiet max-md:order-5 max-md:col-span-2 md:pl-3">
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
