<script lang="ts">
  import { closing } from "../lib/closing";
  import { bytes } from "../lib/format";

  /** From how many stored bytes to how many; typed in kB. */
  let { smallest = $bindable(), largest = $bindable() }: { smallest: number | null; largest: number | null } =
    $props();
  let open = $state(false);
  const told = $derived(
    smallest === null && largest === null
      ? ""
      : `: ${smallest === null ? "up" : bytes(smallest)} to ${largest === null ? "the largest" : bytes(largest)}`,
  );
  const typed = (text: string) => (text.trim() && Number(text) >= 0 ? Math.round(Number(text) * 1000) : null);
</script>

<div class="relative">
  <button
    class="rounded-full border px-3 py-0.5 {told
      ? 'border-primary bg-base-300'
      : 'border-line text-quiet hover:border-edge'}"
    aria-haspopup="true"
    aria-expanded={open}
    onclick={() => (open = !open)}>size{told} ▾</button
  >
  {#if open}
    <fieldset
      use:closing={() => (open = false)}
      class="absolute top-full right-0 z-30 mt-1 w-52 rounded-box border border-edge bg-base-200 p-3 shadow-lg"
    >
      <legend class="sr-only">Stored size</legend>
      <label class="flex items-center justify-between gap-2"
        >at least, kB <input
          class="input input-sm num w-24 text-right"
          inputmode="decimal"
          value={smallest === null ? "" : smallest / 1000}
          onchange={(e) => (smallest = typed(e.currentTarget.value))}
        /></label
      >
      <label class="mt-1.5 flex items-center justify-between gap-2"
        >at most, kB <input
          class="input input-sm num w-24 text-right"
          inputmode="decimal"
          value={largest === null ? "" : largest / 1000}
          onchange={(e) => (largest = typed(e.currentTarget.value))}
        /></label
      >
      {#if told}<button class="btn btn-sm mt-2" onclick={() => ([smallest, largest] = [null, null])}
          >Any size</button
        >{/if}
    </fieldset>
  {/if}
</div>
