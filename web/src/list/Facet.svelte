<script lang="ts" generics="T extends string | number">
  import { closing } from "../lib/closing";
  import { spaced } from "../lib/format";
  import { toggled } from "../lib/address";

  /** One thing by which streams differ, as a menu of its values; any that are ticked fit. */
  let {
    label,
    values,
    chosen = $bindable(),
  }: { label: string; values: { value: T; label: string; streams?: number }[]; chosen: T[] } = $props();
  let open = $state(false);
  const told = $derived(values.filter((v) => chosen.includes(v.value)).map((v) => v.label));
</script>

<div class="relative">
  <button
    class="rounded-full border px-3 py-0.5 {chosen.length
      ? 'border-primary bg-base-300'
      : 'border-line text-quiet hover:border-edge'}"
    aria-haspopup="true"
    aria-expanded={open}
    onclick={() => (open = !open)}
    >{label}{told.length ? `: ${told[0]}${told.length > 1 ? ` + ${told.length - 1}` : ""}` : ""} ▾</button
  >
  {#if open}
    <fieldset
      use:closing={() => (open = false)}
      class="absolute top-full left-0 z-30 mt-1 max-h-[50vh] min-w-52 overflow-auto rounded-box border border-edge bg-base-200 p-3 shadow-lg"
    >
      <legend class="sr-only">{label}</legend>
      {#each values as v (v.value)}
        <label class="flex items-center gap-2 py-0.5">
          <input
            type="checkbox"
            class="checkbox checkbox-xs"
            checked={chosen.includes(v.value)}
            onchange={() => (chosen = toggled(chosen, v.value))}
          />
          <span class="grow">{v.label}</span>
          {#if v.streams !== undefined}<span class="num text-quiet">{spaced(v.streams)}</span>{/if}
        </label>
      {/each}
      {#if chosen.length}<button class="btn btn-sm mt-2" onclick={() => (chosen = [])}>Any</button>{/if}
    </fieldset>
  {/if}
</div>
