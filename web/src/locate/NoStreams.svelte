<script lang="ts">
  import { app } from "../lib/app.svelte";

  /** Why a list of streams, or of their banks, is empty, and what to do next. */
  let { narrowed }: { narrowed: boolean } = $props();
</script>

{#if narrowed}
  No stream matches. Take a filter away, or search for part of a bank's name.
{:else if app.game?.surveyed}
  No streams were found. Look at <a class="link" href="#/{app.gameId}/survey">Survey</a> to see which files were
  recognised.
{:else}
  What the first survey finds stands here as soon as it is done. <a class="link" href="#/{app.gameId}/survey"
    >Survey</a
  >
  shows how far it is.
{/if}
