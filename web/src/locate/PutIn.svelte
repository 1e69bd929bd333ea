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
  /** Ways to set the level of each, the number that goes with them, and from where to where it may be. */
  const WAYS = [
    { way: "gain", said: "with a gain of", label: "Gain, dB", unit: "dB, from −60 to 40", from: -60, to: 40 },
    {
      way: "loudness",
      said: "brought to a loudness of",
      label: "Loudness, LUFS",
      unit: "LUFS, its true peak below −1 dBTP",
      from: -60,
      to: 0,
    },
  ] as const;
  let begin = $state<"silence" | "gain" | "loudness" | "none">("silence");
  let amounts = $state<{ gain: number | null; loudness: number | null }>({ gain: -6, loudness: USUAL });
  const able = $derived(
    WAYS.every(({ way, from, to }) => {
      const amount = amounts[way];
      return way !== begin || (amount !== null && amount >= from && amount <= to);
    }),
  );

  function start(e: SubmitEvent) {
    e.preventDefault();
    if (!able) return;
    modal.close();
    if (begin === "gain") put("original", { gain_db: amounts.gain ?? 0 });
    else if (begin === "loudness") put("original", { match: "number", lufs: amounts.loudness ?? USUAL });
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
      {#each WAYS as { way, said, label, unit, from, to } (way)}
        <label class="flex items-center gap-2">
          <input type="radio" class="radio radio-sm" value={way} bind:group={begin} /> each as it is, {said}
        </label>
        <label class="ml-7 flex items-center gap-2">
          <input
            type="number"
            class="input input-sm num w-24"
            aria-label={label}
            step="0.5"
            min={from}
            max={to}
            bind:value={amounts[way]}
            disabled={begin !== way}
          />
          {unit}
        </label>
      {/each}
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
