<script lang="ts">
  import ChevronDown from "@lucide/svelte/icons/chevron-down";
  import ChevronRight from "@lucide/svelte/icons/chevron-right";
  import { untrack } from "svelte";
  import { api, asProblem, got, type BuiltFile, type Point, type ProblemText } from "../lib/api";
  import { bytes, count, spaced } from "../lib/format";
  import ProblemPanel from "../components/ProblemPanel.svelte";

  /** The proof of one file: a line that opens; what does not hold, or should be looked at, stands open. */
  let { build, file }: { build: number; file: BuiltFile } = $props();
  let open = $state(untrack(() => file.failed + file.doubts > 0));
  let points = $state<Point[]>([]);
  let problem = $state<ProblemText | null>(null);

  async function more() {
    const [of, path, offset] = [build, file.path, points.length];
    try {
      const params = { path: { build_id: of }, query: { file: path, offset } };
      const { rows } = await got(api.GET("/api/builds/{build_id}/proof", { params }));
      if (of === build && path === file.path && offset === points.length) points.push(...rows);
    } catch (error) {
      problem = asProblem(error);
    }
  }

  // A later rebuild has other points.
  $effect(() => {
    void build;
    untrack(() => (points = []));
  });
  $effect(() => {
    void build;
    if (open && !untrack(() => points.length)) untrack(() => void more());
  });
</script>

{#if file.gone}
  <p class="flex min-h-11 items-center gap-2 border-b border-line">
    <span class="num break-all">{file.path}</span><span class="text-quiet">set aside, and kept</span>
  </p>
{:else}
  <div class="border-b border-line">
    <div class="flex min-h-11 flex-wrap items-center justify-between gap-x-4 gap-y-1 py-1">
      <button
        class="flex min-w-0 items-center gap-2 rounded-field text-left"
        aria-expanded={open}
        onclick={() => (open = !open)}
      >
        {#if open}<ChevronDown size={14} class="shrink-0" />{:else}<ChevronRight
            size={14}
            class="shrink-0"
          />{/if}
        <span class="num break-all">{file.path}</span>
        {#if file.failed}<span class="shrink-0 text-error">■ {count(file.failed, "point")} failed</span>
        {:else if file.doubts}<span class="shrink-0 text-info"
            >▲ {count(file.doubts, "point")} to look at</span
          >
        {:else}<span class="shrink-0 text-success">✓ holds, {count(file.points, "point")}</span>{/if}
      </button>
      <a class="btn btn-sm" href="/api/builds/{build}/files/{file.number}" download
        >Download {bytes(file.size)}</a
      >
    </div>
    {#if problem}<ProblemPanel {problem} close={() => (problem = null)} />{/if}
    {#if open}
      <div class="pb-3">
        <table class="w-full table-fixed max-md:block" aria-label="Proof of {file.path}">
          <thead class="max-md:hidden">
            <tr class="border-y border-line text-left text-quiet">
              <th class="w-[36%] py-1 pr-3 font-normal">point</th>
              <th class="w-[17%] px-3 font-normal">expected</th>
              <th class="px-3 font-normal">found</th>
              <th class="w-28 pl-3 font-normal">verdict</th>
            </tr>
          </thead>
          <tbody class="max-md:block">
            {#each points as p, i (i)}
              <tr
                class="border-b border-line last:border-0 max-md:grid max-md:grid-cols-[1fr_auto] max-md:py-1.5"
              >
                <td class="max-md:order-1 md:py-1 md:pr-3">{p.label}</td>
                <td class="num break-words text-quiet max-md:order-3 max-md:col-span-2 md:px-3 md:py-1"
                  >{p.expected}</td
                >
                <td class="num break-words max-md:order-4 max-md:col-span-2 md:px-3 md:py-1"
                  ><span class="text-quiet md:hidden">found: </span>{p.found}</td
                >
                <td
                  class="pl-3 whitespace-nowrap max-md:order-2 {!p.ok
                    ? 'text-error'
                    : p.doubt
                      ? 'text-info'
                      : 'text-success'}">{!p.ok ? "■ fails" : p.doubt ? "▲ look at it" : "✓ holds"}</td
                >
              </tr>
            {/each}
          </tbody>
        </table>
        {#if points.length < file.points}
          <button class="btn btn-sm mt-2" onclick={more}
            >Show more ({spaced(points.length)} of {spaced(file.points)} points)</button
          >
        {/if}
      </div>
    {/if}
  </div>
{/if}
