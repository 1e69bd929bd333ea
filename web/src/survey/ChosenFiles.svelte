<script lang="ts">
  import { keepPreviousData, createQuery } from "@tanstack/svelte-query";
  import { api, got } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { bytes, count } from "../lib/format";
  import ChosenBar from "../list/ChosenBar.svelte";

  /** What several chosen files and folders are together, and what can be done with them. */
  let {
    chosen,
    takeOut,
    none,
  }: {
    chosen: ReadonlySet<number>;
    takeOut: (title: string) => void;
    /** Let them go. */
    none: () => void;
  } = $props();

  const sums = createQuery(() => ({
    queryKey: ofGame(app.gameId, "files", "sums", [...chosen].join(" ")),
    queryFn: () =>
      got(
        api.POST("/api/games/{game_id}/file-sums", {
          params: { path: { game_id: app.gameId } },
          body: { files: [...chosen] },
        }),
      ),
    placeholderData: keepPreviousData,
    gcTime: 0,
  }));
  const files = $derived(sums.data ? count(sums.data.files, "file") : "");
</script>

<ChosenBar {chosen} busy={sums.isFetching} {none}>
  {#snippet told()}
    chosen
    {#if sums.data}
      <span class="text-quiet"
        >· {files} · {bytes(sums.data.bytes)} on disk · {count(sums.data.streams, "stream")}</span
      >
    {/if}
  {/snippet}
  <button class="btn btn-sm" onclick={() => takeOut(`What is in ${files}`)}>Take out …</button>
</ChosenBar>
