<script lang="ts">
  import { api, attempted, got, type InstalledFile, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { cache, ofGame } from "../lib/cache";
  import { count } from "../lib/format";

  /** Files that are not as they were installed, and what can be done. */
  let { files, tell }: { files: InstalledFile[]; tell: (problem: ProblemText | null) => void } = $props();

  const WORDS: Record<string, string> = {
    changed: "changed by something else: an update of the game, or another tool",
    missing: "it is gone",
    original: "somebody has put the original back",
    installed: "it is as it was installed, but its backup was changed",
  };
  const leave = (paths: string[]) =>
    attempted(async () => {
      const params = { path: { game_id: app.gameId } };
      await got(api.POST("/api/games/{game_id}/install/let-go", { params, body: { paths } }));
      await cache.invalidateQueries({ queryKey: ofGame(app.gameId) });
      void app.refreshRoute();
    }, tell);
</script>

<section aria-label="Not as it was installed" class="rounded-box border border-error p-4">
  <h2 class="font-semibold">
    {count(files.length, "file")}
    {files.length === 1 ? "is" : "are"} not as {files.length === 1 ? "it was" : "they were"} installed
  </h2>
  <p class="mb-2 text-quiet">
    Nothing of this is overwritten. Put back by hand what was installed, or leave the file as it is: then
    Zubret forgets that it was ever installed, and its old original goes.
  </p>
  <ul>
    {#each files as file (file.path)}
      <li class="flex flex-wrap items-center gap-3 border-t border-line py-1.5">
        <span class="grow break-all">{file.path}</span>
        <span class="text-quiet">{WORDS[file.state]}</span>
        <button
          class="btn btn-xs"
          aria-label="Leave it as it is: {file.path}"
          onclick={() => leave([file.path])}>Leave it as it is</button
        >
      </li>
    {/each}
  </ul>
  {#if files.length > 1}
    <button class="btn btn-sm mt-2" onclick={() => leave(files.map((f) => f.path))}
      >Leave them all as they are</button
    >
  {/if}
</section>
