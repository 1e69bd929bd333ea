<script lang="ts">
  import { api, got, type ComingFile } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { bytes, spaced } from "../lib/format";
  import { growing } from "../lib/growing.svelte";

  /** What will become of each file, before anything is touched. back: by restoring; build: the rebuild that would be installed. */
  let { back, build }: { back: boolean; build: number | null } = $props();

  const files = growing<ComingFile>(() => ({
    key: ofGame(app.gameId, "files of the forecast", back, build),
    ask: async (offset) => {
      const params = { path: { game_id: app.gameId }, query: { back, offset } };
      return got(api.GET("/api/games/{game_id}/install/forecast", { params }));
    },
  }));
  const HOW: Record<string, string> = {
    replaced: "written beside the old one, which it then replaces",
    added: "new",
    "set aside": "kept among the originals, and gone from the game",
    "put back": "the original comes back",
    "taken away": "it was not there before",
  };
  const size = (n: number | null) => (n === null ? "–" : bytes(n));
</script>

<table class="w-full" aria-label="Files">
  <thead>
    <tr class="h-8 border-b border-line text-left text-quiet">
      <th class="pr-3 font-normal">file</th>
      <th class="px-3 font-normal">what happens</th>
      <th class="px-3 text-right font-normal">now</th>
      <th class="px-3 text-right font-normal">then</th>
      <th class="pl-3 font-normal max-md:hidden">by</th>
    </tr>
  </thead>
  <tbody>
    {#each files.rows as file (file.path)}
      <tr class="h-[33px] border-b border-line">
        <td class="pr-3 break-all">{file.path}</td>
        <td class="px-3">{file.what}<span class="text-quiet max-lg:hidden">: {HOW[file.what]}</span></td>
        <td class="num px-3 text-right whitespace-nowrap">{size(file.before)}</td>
        <td class="num px-3 text-right whitespace-nowrap">{size(file.after)}</td>
        <td class="pl-3 text-quiet max-md:hidden">{file.by}</td>
      </tr>
    {/each}
  </tbody>
</table>
{#if files.rows.length < files.total}
  <button class="btn btn-sm mt-2" onclick={files.more}
    >Show more ({spaced(files.rows.length)} of {spaced(files.total)} files)</button
  >
{/if}
