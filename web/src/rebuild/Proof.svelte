<script lang="ts">
  import { api, got, type Build, type BuiltFile } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { count, spaced } from "../lib/format";
  import { growing } from "../lib/growing.svelte";
  import ProofOfFile from "./ProofOfFile.svelte";

  /** What a rebuild has written, read back: file by file. */
  let { build }: { build: Build } = $props();

  const files = growing<BuiltFile>(() => ({
    key: ofGame(app.gameId, "built files", build.id),
    ask: (offset) =>
      got(
        api.GET("/api/builds/{build_id}/files", {
          params: { path: { build_id: build.id }, query: { offset } },
        }),
      ),
  }));
  const made = $derived(
    new Date(build.created).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" }),
  );
</script>

<section aria-label="Proof">
  <h2 class="font-semibold">
    {#if build.failed}<span class="text-error">■ {count(build.failed, "point")} failed</span>
    {:else if build.doubts}<span class="text-info">▲ Proved, {count(build.doubts, "point")} to look at</span>
    {:else}<span class="text-success">✓ Proved</span>{/if}
    <span class="font-normal text-quiet">
      · {count(build.points, "point")}, read back from disk by a new process · {made}
      {build.fresh ? "" : "· out of date: the mod, or how the game takes it, has changed since"}
    </span>
  </h2>
  <div class="mt-3 border-t border-line">
    {#each files.rows as file (file.path)}<ProofOfFile build={build.id} {file} />{/each}
  </div>
  {#if files.rows.length < build.files}
    <button class="btn btn-sm mt-3" onclick={files.more}
      >Show more ({spaced(files.rows.length)} of {spaced(build.files)} files)</button
    >
  {/if}
</section>
