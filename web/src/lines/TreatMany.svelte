<script lang="ts">
  import Modal from "../components/Modal.svelte";
  import { count } from "../lib/format";
  import { AS_USUAL, wayOf, type Alike, type Way } from "./alike";
  import AlikeForm from "./AlikeForm.svelte";

  /** What the mod has of many streams is treated alike. */
  let { lines, start, close }: { lines: number; start: (way: Way) => void; close: () => void } = $props();
  let modal: Modal;
  let how = $state<Alike>({ ...AS_USUAL });
  let fit = $state(true);
</script>

<Modal bind:this={modal} label="Treat alike" width="w-[36rem]" onclose={close}>
  <h2 class="text-lg font-bold">Treat alike</h2>
  <p class="mt-1 mb-3 text-quiet">
    The takes of {count(lines, "line")}; those without one are passed over. One Undo takes it back.
  </p>
  <AlikeForm bind:how />
  <label class="mt-3 flex items-center gap-1.5"
    ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={fit} /> and fit all that can be: rate, channels,
    loop, length</label
  >
  <div class="mt-5 flex justify-end gap-2">
    <button class="btn btn-sm" onclick={() => modal.close()}>Cancel</button>
    <button
      class="btn btn-sm btn-primary"
      onclick={() => {
        modal.close();
        start(wayOf(how, fit));
      }}>Treat them</button
    >
  </div>
</Modal>
