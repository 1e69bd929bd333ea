<script lang="ts">
  import type { Snippet } from "svelte";
  import { spaced } from "../lib/format";

  /** Above a list: how many rows are chosen, and what can be done with all of them. */
  let {
    chosen,
    busy,
    none,
    told,
    children,
  }: {
    chosen: ReadonlySet<number>;
    busy: boolean;
    /** Let them go. */
    none: () => void;
    /** What they are together. */
    told: Snippet;
    children: Snippet;
  } = $props();
</script>

<!-- svelte-ignore a11y_interactive_supports_focus -->
<div
  role="toolbar"
  aria-label="What is chosen"
  aria-busy={busy}
  class="-mx-2 flex flex-wrap items-center gap-2 rounded-box bg-base-300 px-2 py-1"
  onkeydown={(e) => e.key === "Escape" && none()}
>
  <p class="grow"><strong class="num text-base">{spaced(chosen.size)}</strong> {@render told()}</p>
  {@render children()}
  <button class="btn btn-sm btn-ghost" title="Escape" onclick={none}>Let go</button>
</div>
