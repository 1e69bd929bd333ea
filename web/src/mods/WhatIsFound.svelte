<script lang="ts" module>
  /** What a job found in files of somebody else's mod. */
  export interface BroughtIn {
    mod: number;
    streams: number;
    files: number;
    sounds: number;
    same: number;
    strange: number;
    unknown: [string, string][];
  }
</script>

<script lang="ts">
  import { count } from "../lib/format";

  /** What somebody else's mod changes in this game, and what of it stands nowhere here. */
  let { found }: { found: BroughtIn } = $props();
</script>

<section class="mt-3 rounded-box bg-base-200 p-3" aria-label="What it changes">
  <p class="font-semibold" role="status">
    {#if found.mod}
      ✓ It changes {[
        ...(found.streams ? [count(found.streams, "stream")] : []),
        ...(found.files ? [count(found.files, "whole entry")] : []),
        ...(found.sounds
          ? [`${count(found.sounds, "stream")} by a sound of its id, to be fitted in Swap`]
          : []),
      ].join(" and ")}
    {:else}■ It changes nothing here that Zubret can find{/if}
  </p>
  {#if found.mod}
    <p class="text-quiet">
      It is a mod of this game now, behind the others. What it has stored is taken as it is, and never encoded
      again.
    </p>
  {/if}
  {#if found.same}<p class="text-quiet">
      {count(found.same, "file")} as the game has {found.same === 1 ? "it" : "them"}
    </p>{/if}
  {#if found.strange}
    <p class="mt-2">▲ {count(found.strange, "file")} left out:</p>
    <ul class="max-h-48 overflow-auto" aria-label="Left out">
      {#each found.unknown as [path, why] (path)}
        <li class="border-t border-line py-1">
          <span class="num break-all">{path}</span> <span class="text-quiet">{why}</span>
        </li>
      {/each}
    </ul>
    {#if found.strange > found.unknown.length}
      <p class="text-quiet">and {count(found.strange - found.unknown.length, "more file")}</p>
    {/if}
  {/if}
</section>
