<script lang="ts" generics="T">
  import { closing } from "../lib/closing";
  import type { Columns } from "../lib/columns.svelte";

  /** Which columns a list shows, and how wide they are. */
  let { columns }: { columns: Columns<T> } = $props();
  let open = $state(false);
</script>

<div class="relative">
  <button class="btn btn-sm" aria-haspopup="true" aria-expanded={open} onclick={() => (open = !open)}
    >Columns</button
  >
  {#if open}
    <section
      use:closing={() => (open = false)}
      aria-label="Columns"
      class="absolute top-full right-0 z-30 mt-1 max-h-[60vh] w-64 overflow-auto rounded-box border border-edge bg-base-200 p-3 shadow-lg"
    >
      <table class="w-full">
        <thead class="text-left text-quiet">
          <tr
            ><th class="pb-1 font-normal">shown</th><th class="pb-1 text-right font-normal">width, px</th></tr
          >
        </thead>
        <tbody>
          {#each columns.all() as column (column.key)}
            <tr>
              <td class="py-0.5">
                <label class="flex items-center gap-2">
                  <input
                    type="checkbox"
                    class="checkbox checkbox-xs"
                    disabled={column.always}
                    checked={columns.shown.some((c) => c.key === column.key)}
                    onchange={(e) => columns.show(column, e.currentTarget.checked)}
                  />
                  {column.label}
                </label>
              </td>
              <td class="text-right">
                <input
                  class="input input-sm num w-20 text-right"
                  type="number"
                  min="24"
                  max="800"
                  placeholder="usual"
                  aria-label="Width of {column.label}, px"
                  value={columns.changed.widths[column.key] ?? ""}
                  onchange={(e) => columns.size(column, Number(e.currentTarget.value) || null)}
                />
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
      <button class="btn btn-sm mt-2" onclick={() => columns.asTheyCome()}>All as they come</button>
    </section>
  {/if}
</div>
