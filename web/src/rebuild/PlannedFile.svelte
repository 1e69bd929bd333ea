<script lang="ts">
  import type { FilePlan } from "../lib/api";
  import { bytes, count, spaced } from "../lib/format";
  import ByteRibbon from "../components/ByteRibbon.svelte";

  /** A file that a rebuild writes: what changes in it, and where its bytes are before and after. */
  let { plan }: { plan: FilePlan } = $props();
  const FEW = 6;
  /** What a bank's streams take of each second, in kbit. */
  const rate = (size: number, seconds: number) =>
    spaced(Math.round((size * 8) / Math.max(seconds, 1e-3) / 1000));
</script>

<div class="mb-4 rounded-box bg-base-200 p-4">
  <div class="flex flex-wrap justify-between gap-3">
    <p class="num font-semibold">{plan.path}</p>
    <p>
      {plan.note
        ? plan.note
        : plan.way
          ? `new, in ${plan.way}`
          : !plan.moved
            ? "every other entry stays in its place"
            : `${count(plan.moved, "entry")} of ${spaced(plan.entries)} moved`}
      ·
      <span class="num"
        >{plan.size_before ? bytes(plan.size_before) : "–"} → {plan.gone ? "–" : bytes(plan.size)}</span
      >
    </p>
  </div>
  {#snippet place(text: string)}<li>{text}</li>{/snippet}
  <ul class="num mt-1 text-quiet">
    {#each plan.streams.slice(0, FEW) as stream (stream)}{@render place(stream)}{/each}
    {#each plan.files as file (file.place)}
      <li>{file.place}, {file.adds ? "added" : "replaced"} as a whole</li>
    {/each}
  </ul>
  {#if plan.streams.length > FEW}
    <details>
      <summary class="cursor-pointer text-quiet">{spaced(plan.streams.length - FEW)} more</summary>
      <ul class="num text-quiet">
        {#each plan.streams.slice(FEW) as stream (stream)}{@render place(stream)}{/each}
      </ul>
    </details>
  {/if}
  {#if plan.banks?.length}
    <ul class="mt-2 flex flex-wrap gap-x-8 gap-y-1" aria-label="Banks of {plan.path}">
      {#each plan.banks as bank, i (i)}
        <li>
          {bank.name}
          <span class="num text-quiet"
            >{bytes(bank.size_before)} → {bytes(bank.size)}, {rate(bank.size_before, bank.seconds_before)} → {rate(
              bank.size,
              bank.seconds,
            )} kbit/s</span
          >
        </li>
      {/each}
    </ul>
  {/if}
  {#if plan.suspects?.length}
    <div role="note" class="mt-3 border-l-2 border-info pl-3">
      <p class="text-info">
        ▲ {count(plan.suspects.length, "place")} in this file may not fit what is written
      </p>
      <ul class="mt-1 space-y-1">
        {#each plan.suspects as s, i (i)}
          <li>
            <span class="num">{s.file} · {s.place}</span>: {s.evidence}.
            {#if s.line}<span class="text-quiet">In the layout:</span>
              <code class="num break-all">{s.line}</code>{/if}
          </li>
        {/each}
      </ul>
      {#if plan.suspects.some((s) => s.line)}
        <p class="mt-1 text-quiet">
          The layout does not tie them, or ties them otherwise. Correct it on the bench before you rebuild, or
          the game may read from the wrong place.
        </p>
      {/if}
    </div>
  {/if}
  {#if !plan.gone && !plan.note.startsWith("a list")}<div
      class="mt-3 grid grid-cols-[52px_1fr] gap-x-3 gap-y-2"
    >
      {#if plan.size_before}
        <span class="text-quiet">before</span>
        <ByteRibbon
          ribbon={plan.before}
          label="{plan.path} before"
          scale={Math.max(plan.size, plan.size_before)}
        />
      {/if}
      <span class="text-quiet">after</span>
      <ByteRibbon
        ribbon={plan.after}
        label="{plan.path} after"
        scale={Math.max(plan.size, plan.size_before)}
      />
    </div>{/if}
</div>
