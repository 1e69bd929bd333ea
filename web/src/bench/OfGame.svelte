<script lang="ts">
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, attempted, got, type ProblemText, type Tried, type WhoWins } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { spaced } from "../lib/format";

  /** What load rules say of the game: what it reads from, the strongest first; and who holds a file, by the rules that are saved. */
  let { game }: { game: NonNullable<Tried["game"]> } = $props();
  let path = $state("");
  let told = $state<WhoWins | null>(null);
  let problem = $state<ProblemText | null>(null);

  const ask = (e: SubmitEvent) => {
    e.preventDefault();
    const params = { path: { game_id: app.gameId }, query: { path: path.trim() } };
    void attempted(
      async () => (told = await got(api.GET("/api/games/{game_id}/who-wins", { params }))),
      (p) => (problem = p),
    );
  };
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
  <form class="mt-4 flex flex-wrap items-center gap-2" onsubmit={ask}>
    <label class="flex grow items-center gap-2"
      ><span class="text-quiet">who holds, by the saved rules</span>
      <input
        class="input input-sm num grow"
        placeholder="the game's path, such as root/folder/name"
        maxlength="2000"
        bind:value={path}
      /></label
    >
    <button class="btn btn-sm" disabled={!path.trim()}>Ask</button>
  </form>
  {#if problem}<ProblemPanel {problem} close={() => (problem = null)} />{/if}
  {#if told}
    <ol class="mt-2" aria-label="Who holds {told.path}">
      {#each told.rows as row, n (row.place + row.path)}
        <li class="border-b border-line py-1">
          <span class="num break-all">{row.place || "the game’s folder"}</span>
          <span class="text-quiet">{n ? row.why : "● wins"}</span>
        </li>
      {:else}
        <li class="text-quiet">Nothing that the game reads holds {told.path}.</li>
      {/each}
    </ol>
  {/if}
</section>
