<script lang="ts">
  import { spaced } from "../lib/format";
  import { sending } from "./sending.svelte";

  /** How far the files are that are being sent, wherever one looks. */
</script>

{#if sending.total}
  <div class="mt-2 flex items-center gap-3" role="group" aria-label="Sending files">
    <progress
      class="progress progress-primary grow"
      value={sending.done}
      max={sending.total}
      aria-label="Sent"
    ></progress>
    <span class="num shrink-0">{spaced(sending.done)} of {spaced(sending.total)} sent</span>
    <button class="btn btn-sm" onclick={() => sending.stop()}>Stop</button>
  </div>
{/if}
