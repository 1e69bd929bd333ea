<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { api, type EntryFile } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes } from "../lib/format";
  import { filesPut, filesPutChanged } from "./put";

  /** What the mod puts in the place of an archive's entries, or adds to it. */
  let { archive }: { archive: string } = $props();

  const mod_id = app.game!.mod_id;
  const files = createQuery(() => filesPut(app.gameId, mod_id));
  const here = $derived(files.data?.filter((file) => file.archive === archive) ?? []);

  async function remove(gone: EntryFile) {
    const params = { path: { file_id: gone.id } };
    await app.attempt(api.DELETE("/api/files/{file_id}", { params }));
    await filesPutChanged();
    app.say(`${gone.source_name} was taken out of the mod.`, {
      label: "Undo",
      run: async () => {
        await app.attempt(api.POST("/api/files/{file_id}/restore", { params }));
        await filesPutChanged();
      },
    });
  }
</script>

{#if here.length}
  <section class="mt-2" aria-label="Files in this mod">
    <h3 class="font-semibold">Files in this mod</h3>
    <ul>
      {#each here as put (put.id)}
        <li class="flex items-baseline justify-between gap-2 border-b border-line py-1.5">
          <span class="min-w-0"
            ><span class="num break-all">{put.entry}</span>
            <span class="block text-quiet"
              >{put.adds ? "added from" : "replaced by"} {put.source_name}, {bytes(put.size)}</span
            ></span
          >
          <button class="btn btn-xs" onclick={() => remove(put)}>Remove</button>
        </li>
      {/each}
    </ul>
    <p class="mt-1"><a class="link" href="#/{app.gameId}/rebuild">Go to Rebuild</a></p>
  </section>
{/if}
