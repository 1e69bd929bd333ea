<script lang="ts">
  import type { Tried } from "../lib/api";
  import { spaced } from "../lib/format";

  /** What load rules say of the game: what it reads from, the strongest first. */
  let { game }: { game: NonNullable<Tried["game"]> } = $props();
</script>

<section aria-label="The game" class="min-h-0 overflow-auto">
  <p class="font-semibold" role="status">
    {game.recognised
      ? `✓ These rules recognise this game${game.build ? `, build ${game.build}` : ""}`
      : "■ These rules do not recognise this game: a file of `recognise`, or its line, is not there"}
  </p>
  <p class="text-quiet">What it reads from. Of several that hold the same file, the one further up wins.</p>
  <table class="mt-2 w-full" aria-label="What the game reads">
    <thead>
      <tr class="h-8 border-b border-line text-left text-quiet">
        <th class="pr-3 font-normal">what</th>
        <th class="px-3 font-normal">files now</th>
        <th class="px-3 font-normal">root</th>
        <th class="pl-3 font-normal">changes</th>
      </tr>
    </thead>
    <tbody>
      {#each game.reads as read (read.name)}
        <tr class="border-b border-line align-top">
          <td class="py-1.5 pr-3"
            >{read.title}<span class="block text-quiet">{read.archives ? "archives" : "loose files"}</span
            ></td
          >
          <td class="num px-3 py-1.5 break-all">
            {#each read.places as place (place)}<span class="block">{place || "."}</span>{:else}<span
                class="text-quiet">none</span
              >{/each}
            {#if read.count > read.places.length}<span class="text-quiet"
                >and {spaced(read.count - read.places.length)} more</span
              >{/if}
          </td>
          <td class="num px-3 py-1.5">{read.root || "–"}</td>
          <td class="py-1.5 pl-3">{read.takes ? "may go here" : ""}</td>
        </tr>
      {/each}
    </tbody>
  </table>
</section>
