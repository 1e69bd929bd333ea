<script lang="ts">
  import { untrack } from "svelte";
  import Modal from "../components/Modal.svelte";
  import type { Stream, Swap, Treatment } from "../lib/api";

  /** Which channel of the file is heard how strongly in which channel of the stream. */
  let {
    swap,
    stream,
    change,
    close,
  }: {
    swap: Swap;
    stream: Stream;
    change: (steps: Treatment) => Promise<void>;
    close: () => void;
  } = $props();

  const mix = $derived(swap.mix!);
  let weights = $state(untrack(() => (swap.treatment.matrix ?? swap.mix!.weights).map((row) => [...row])));
  const fits = $derived(weights.flat().every((w) => Number.isFinite(w) && Math.abs(w) <= 4));
  let modal: Modal;

  async function use(matrix: number[][] | null) {
    modal.close();
    await change({ matrix, mix: true });
  }
</script>

<Modal bind:this={modal} label="Weights of the mix" width="w-fit" onclose={close}>
  <h2 class="text-xl font-bold">Weights of the mix</h2>
  <p class="mt-1 max-w-lg text-quiet">
    How much of each channel of the file, across, is heard in each channel of {stream.channels === 1
      ? "the stream"
      : "the stream, down"}. 1 is all of it, −1 turns it round.
  </p>
  <div class="mt-3 overflow-auto">
    <table>
      <thead>
        <tr class="text-quiet">
          <th></th>
          {#each mix.columns as name, c (c)}<th class="px-1 pb-1 font-normal">{name}</th>{/each}
        </tr>
      </thead>
      <tbody>
        {#each mix.rows as name, r (r)}
          <tr>
            <th class="pr-2 text-right font-normal text-quiet">{name}</th>
            {#each mix.columns as column, c (c)}
              <td class="p-1">
                <input
                  class="input input-sm num w-20"
                  type="number"
                  step="0.05"
                  min="-4"
                  max="4"
                  aria-label="{column} in {name}"
                  value={Number(weights[r]![c]!.toFixed(4))}
                  oninput={(e) => (weights[r]![c] = e.currentTarget.valueAsNumber)}
                />
              </td>
            {/each}
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
  <div class="mt-4 flex justify-end gap-2">
    <button class="btn btn-sm mr-auto" disabled={!swap.treatment.matrix} onclick={() => use(null)}
      >The usual ones</button
    >
    <button class="btn btn-sm" onclick={() => modal.close()}>Cancel</button>
    <button class="btn btn-primary btn-sm" disabled={!fits} onclick={() => use(weights)}>Use these</button>
  </div>
</Modal>
