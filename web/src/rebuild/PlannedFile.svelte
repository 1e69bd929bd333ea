<script lang="ts">
  import type { FilePlan } from "../lib/api";
  import { bytes, count, spaced } from "../lib/format";
  import ByteRibbon from "../components/ByteRibbon.svelte";

  /** A file that a rebuild writes: what changes in it, and where its bytes are before and after. */
  let { plan }: { plan: FilePlan } = $props();
</script>

<div class="mb-4 rounded-box bg-base-200 p-4">
  <div class="flex flex-wrap justify-between gap-3">
    <p class="num font-semibold">{plan.path}</p>
    <p>
      {plan.note
        ? plan.note
        : !plan.moved
          ? "every other entry stays in its place"
          : `${count(plan.moved, "entry")} of ${spaced(plan.entries)} moved`}
      · <span class="num">{bytes(plan.size_before)} → {bytes(plan.size)}</span>
    </p>
  </div>
  <ul class="num mt-1 text-quiet">
    {#each plan.streams as stream (stream)}<li>{stream}</li>{/each}
    {#each plan.files as file (file.place)}
      <li>{file.place}, {file.adds ? "added" : "replaced"} as a whole</li>
    {/each}
  </ul>
  {#if plan.suspects?.length}
    <div role="note" class="mt-3 border-l-2 border-info pl-3">
      <p class="text-info">
        ▲ {count(plan.suspects.length, "number")} that this layout does not tie would go on saying old places
      </p>
      <ul class="mt-1 space-y-1">
        {#each plan.suspects as s, i (i)}
          <li>
            <span class="num">{s.file} · {s.place}</span>: {s.evidence}.
            <span class="text-quiet">To tie it:</span> <code class="num break-all">{s.line}</code>
          </li>
        {/each}
      </ul>
      <p class="mt-1 text-quiet">
        Correct the layout on the bench before you rebuild, or the game may read from the wrong place.
      </p>
    </div>
  {/if}
  {#if !plan.note.startsWith("a list")}<div class="mt-3 grid grid-cols-[52px_1fr] gap-x-3 gap-y-2">
      <span class="text-quiet">before</span>
      <ByteRibbon
        ribbon={plan.before}
        label="{plan.path} before"
        scale={Math.max(plan.size, plan.size_before)}
      />
      <span class="text-quiet">after</span>
      <ByteRibbon
        ribbon={plan.after}
        label="{plan.path} after"
        scale={Math.max(plan.size, plan.size_before)}
      />
    </div>{/if}
</div>
