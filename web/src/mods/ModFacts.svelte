<script lang="ts">
  import type { Mod, ModChange } from "../lib/api";

  /** What a mod says of itself. */
  let { mod, say }: { mod: Mod; say: (body: ModChange) => Promise<unknown> } = $props();

  const FIELDS = [
    { key: "name", label: "name", width: "w-80", most: 200 },
    { key: "version", label: "version", width: "w-32", most: 40 },
    { key: "author", label: "author", width: "w-64", most: 200 },
    { key: "licence", label: "licence", width: "w-64", most: 200 },
  ] as const;
</script>

<div class="mb-3 flex flex-wrap gap-x-5 gap-y-2 rounded-box bg-base-200 p-3">
  {#each FIELDS as { key, label, width, most } (key)}
    <label class="flex items-center gap-2">
      <span class="text-quiet">{label}</span>
      <input
        id={key === "name" ? "name-of-mod" : undefined}
        class="input input-sm {width}"
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
  <label class="flex basis-full items-start gap-2">
    <span class="pt-1 text-quiet">note</span>
    <textarea
      class="textarea textarea-sm min-h-16 grow"
      maxlength="20000"
      value={mod.note}
      onchange={(e) => void say({ note: e.currentTarget.value.trim() })}></textarea>
  </label>
</div>
