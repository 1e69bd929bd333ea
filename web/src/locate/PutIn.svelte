<script lang="ts">
  import Modal from "../components/Modal.svelte";
  import { spaced } from "../lib/format";
  import { USUAL, type Begin, type Level } from "../swap/swaps";

  /** Many streams put into the mod without a file: as silence, or as they are, louder, quieter or equally loud. */
  let {
    streams,
    put,
    close,
  }: { streams: number; put: (begin: Begin, level: Level) => void; close: () => void } = $props();
  let modal: Modal;
  let begin = $state<"silence" | "gain" | "loudness" | "none">("silence");
  let gain = $state<number | null>(-6);
  let lufs = $state<number | null>(USUAL);
  const within = (value: number | null, from: number, to: number) =>
    value !== null && value >= from && value <= to;
  const able = $derived(
    begin === "gain" ? within(gain, -60, 40) : begin === "loudness" ? within(lufs, -60, 0) : true,
  );

  function start(e: SubmitEvent) {
    e.preventDefault();
    if (!able) return;
    modal.close();
    if (begin === "gain") put("original", { gain_db: gain ?? 0 });
    else if (begin === "loudness") put("original", { match: "number", lufs: lufs ?? 0 });
    else put(begin, { gain_db: 0 });
  }
</script>

<Modal bind:this={modal} label="Put into the mod" width="w-[30rem]" onclose={close}>
  <form onsubmit={start}>
    <h2 class="text-lg font-bold">Put into the mod</h2>
    <p class="text-quiet">
      {spaced(streams)} streams, without a file of yours. What of them is swapped already is set aside.
    </p>
    <fieldset class="mt-4 space-y-2">
      <legend class="sr-only">What stands in their place</legend>
      <label class="flex items-center gap-2">
        <input type="radio" class="radio radio-sm" value="silence" bind:group={begin} /> silence, as long as each
        is
      </label>
      <label class="flex items-center gap-2">
        <input type="radio" class="radio radio-sm" value="gain" bind:group={begin} /> each as it is, with a gain
        of
      </label>
      <label class="ml-7 flex items-center gap-2">
        <input
          type="number"
          class="input input-sm num w-24"
          aria-label="Gain, dB"
          step="0.5"
          min="-60"
          max="40"
          bind:value={gain}
          disabled={begin !== "gain"}
        /> dB, from −60 to 40
      </label>
      <label class="flex items-center gap-2">
        <input type="radio" class="radio radio-sm" value="loudness" bind:group={begin} /> each as it is, brought
        to a loudness of
      </label>
      <label class="ml-7 flex items-center gap-2">
        <input
          type="number"
          class="input input-sm num w-24"
          aria-label="Loudness, LUFS"
          step="0.5"
          min="-60"
          max="0"
          bind:value={lufs}
          disabled={begin !== "loudness"}
        /> LUFS, its true peak below −1 dBTP
      </label>
      <label class="flex items-center gap-2">
        <input type="radio" class="radio radio-sm" value="none" bind:group={begin} /> what the game has: their swaps
        are removed
      </label>
    </fieldset>
    <div class="mt-5 flex justify-end gap-2">
      <button type="button" class="btn btn-sm" onclick={() => modal.close()}>Cancel</button>
      <button class="btn btn-sm btn-primary" disabled={!able}
        >{begin === "none" ? "Remove their swaps" : `Put ${spaced(streams)} streams in`}</button
      >
    </div>
  </form>
</Modal>
