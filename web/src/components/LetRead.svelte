<script lang="ts">
  import { api, asProblem, got, type ProblemText } from "../lib/api";

  /** Asks once whether Zubret may read a folder outside those that it may read so far. */
  let {
    path,
    allowed,
    refused,
    failed,
  }: {
    path: string;
    allowed: () => void;
    refused: () => void;
    failed: (problem: ProblemText) => void;
  } = $props();
  let busy = $state(false);
  let yes: HTMLButtonElement;

  $effect(() => yes.focus());

  async function allow() {
    busy = true;
    try {
      await got(api.POST("/api/allowed-folders", { body: { path } }));
      allowed();
    } catch (error) {
      failed(asProblem(error));
    }
    busy = false;
  }
</script>

<section
  class="rounded-box border-l-4 border-primary bg-base-300 px-4 py-3"
  aria-label="May Zubret read this?"
>
  <p class="font-semibold">May Zubret read this folder?</p>
  <p class="num mt-0.5 break-all">{path}</p>
  <p class="mt-1 text-quiet">
    It lies outside the folders that Zubret may read so far. Zubret reads what is in it, and writes there only
    where you install a mod. You are asked once; it can be taken back in the settings.
  </p>
  <div class="mt-2 flex gap-2">
    <button bind:this={yes} class="btn btn-sm btn-primary" disabled={busy} onclick={allow}
      >Let Zubret read it</button
    >
    <button class="btn btn-sm" onclick={refused}>Not this one</button>
  </div>
</section>
