<script lang="ts">
  import type { Mod, ModChange } from "../lib/api";
  import Pack from "./Pack.svelte";

  /** What a mod says of itself. */
  let { mod, game_id, say }: { mod: Mod; game_id: number; say: (body: ModChange) => Promise<unknown> } =
    $props();

  const FIELDS = [
    { key: "name", label: "name", most: 200 },
    { key: "version", label: "version", most: 40 },
    { key: "author", label: "author", most: 200 },
    { key: "licence", label: "licence", most: 200 },
  ] as const;
</script>

<div
  class="mb-3 grid grid-cols-[3fr_1.5fr_3fr_2fr] gap-x-5 gap-y-2 rounded-box bg-base-200 p-3 max-md:grid-cols-1"
>
  {#each FIELDS as { key, label, most } (key)}
    <label class="flex min-w-0 items-center gap-2">
      <span class="text-quiet">{label}</span>
      <input
        id={key === "name" ? "name-of-mod" : undefined}
        class="input input-sm min-w-0 grow"
        value={mod[key]}
        maxlength={most}
        required={key === "name"}
        onchange={(e) => {
          const text = e.currentTarget.value.trim();
          if (text || key !== "name") void say({ [key]: text });
          else e.currentTarget.value = mod.name;
        }}
      />
    </label>
  {/each}
  <label class="col-span-full flex items-start gap-2">
    <span class="pt-1 text-quiet">note</span>
    <textarea
      class="textarea textarea-sm min-h-16 grow bg-base-100 text-base"
      maxlength="20000"
      value={mod.note}
      onchange={(e) => void say({ note: e.currentTarget.value.trim() })}></textarea>
  </label>
  {#if mod.swaps || mod.files}
    <div class="col-span-full space-y-2">
      <Pack {mod} />
      <a class="underline" href="#/{game_id}/mods/{mod.id}">How it stands in this build</a>
    </div>
  {/if}
</div>
