<script lang="ts">
  import type { FieldSpan, Tried } from "../lib/api";
  import { bytes, count, spaced } from "../lib/format";

  /** What the layout makes of the file: regions with their fields, and the bytes that none of them explains. */
  let {
    tried,
    spans,
    here,
    goTo,
  }: {
    tried: Tried | null;
    spans: FieldSpan[];
    here: FieldSpan | undefined;
    goTo: (at: number) => void;
  } = $props();

  let folded = $state<Record<string, boolean>>({});

  const isOpen = (r: { name: string; records: number }) =>
    folded[r.name] === undefined ? r.records === 1 || here?.region === r.name : !folded[r.name];
</script>

{#each tried?.regions ?? [] as r (r.name)}
  <div class="py-0.5">
    <p class="flex items-baseline gap-2">
      <button
        class="w-4 text-quiet"
        aria-expanded={isOpen(r)}
        aria-label="Fields of {r.name}"
        onclick={() => (folded[r.name] = isOpen(r))}>{isOpen(r) ? "▾" : "▸"}</button
      >
      <button
        class="font-semibold {here?.region === r.name ? 'text-primary' : ''}"
        onclick={() => goTo(r.file ? 0 : r.at)}>{r.name}</button
      >
      <span class="num text-quiet"
        >{r.file ? `${r.file}, ` : ""}byte {spaced(r.at)} · {bytes(r.length)} · {count(
          r.records,
          "record",
        )}{r.packed ? " · packed" : ""}</span
      >
    </p>
    {#if isOpen(r)}
      <ul class="num ml-6 columns-2 max-xl:columns-1">
        {#each r.fields as f (f.name)}
          {@const at = spans.find((s) => s.region === r.name && s.field === f.name)?.at}
          <li>
            <button
              class="text-left {here?.region === r.name && here.field === f.name
                ? 'text-primary underline'
                : ''}"
              disabled={at === undefined}
              onclick={() => at !== undefined && goTo(at)}>{f.name}</button
            > <span class="text-quiet">{f.type}{f.means ? ` → ${f.means}` : ""}</span>
          </li>
        {/each}
      </ul>
    {/if}
  </div>
{:else}<p class="text-quiet">The regions of the layout appear here once it reads the file.</p>{/each}
{#if tried?.unexplained.length}
  <p class="mt-2">
    <span class="hatched inline-block h-3 w-3 rounded-[2px]"></span> not explained:
    {#each tried.unexplained.slice(0, 12) as gap (gap.at)}
      <button class="num mr-2 underline" onclick={() => goTo(gap.at)}
        >{bytes(gap.length)} at {spaced(gap.at)}</button
      >
    {/each}
  </p>
{/if}
