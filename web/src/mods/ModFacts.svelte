<script lang="ts">
  import { api, got, upload, type Mod, type ModChange } from "../lib/api";
  import { givenFile } from "../lib/given";
  import Pack from "./Pack.svelte";

  /** What a mod says of itself. */
  let {
    mod,
    game_id,
    say,
    change,
  }: {
    mod: Mod;
    game_id: number;
    say: (body: ModChange) => Promise<unknown>;
    change: (what: () => Promise<unknown>) => Promise<unknown>;
  } = $props();

  const show = (file: File | undefined) =>
    file && change(() => upload(`/api/mods/${mod.id}/picture`, file, {}, () => {}));
  const hide = () =>
    change(() => got(api.DELETE("/api/mods/{mod_id}/picture", { params: { path: { mod_id: mod.id } } })));

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
  <div class="col-span-full flex items-start gap-4 max-md:flex-col">
    <div class="flex items-start gap-2">
      <span class="pt-1 text-quiet">picture</span>
      {#if mod.picture}
        <img
          src={mod.picture}
          alt="of {mod.name}"
          class="h-16 w-24 rounded-field border border-line object-cover"
        />
      {/if}
      <label class="btn btn-sm"
        >{mod.picture ? "Another …" : "Choose …"}
        <input
          type="file"
          class="sr-only"
          aria-label="Picture of {mod.name}"
          accept="image/png,image/jpeg,image/webp"
          onchange={(e) => show(givenFile(e))}
        /></label
      >
      {#if mod.picture}<button class="btn btn-sm" aria-label="Remove the picture of {mod.name}" onclick={hide}
          >Remove</button
        >{/if}
    </div>
    <label class="flex grow items-start gap-2 max-md:w-full">
      <span class="pt-1 text-quiet">note</span>
      <textarea
        class="textarea textarea-sm min-h-16 grow bg-base-100 text-base"
        maxlength="20000"
        value={mod.note}
        onchange={(e) => void say({ note: e.currentTarget.value.trim() })}></textarea>
    </label>
  </div>
  {#if mod.swaps || mod.files}
    <div class="col-span-full space-y-2">
      <Pack {mod} />
      <a class="underline" href="#/{game_id}/mods/{mod.id}">How it stands in this build</a>
    </div>
  {/if}
</div>
