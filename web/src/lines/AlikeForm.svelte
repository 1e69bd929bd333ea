<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { api, got, upload, type Preset } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { cache } from "../lib/cache";
  import Choice from "../swap/Choice.svelte";
  import NumberStep from "../swap/NumberStep.svelte";
  import { LENGTHS } from "../swap/steps";
  import { fromSteps, stepsOf, type Alike } from "./alike";

  /** What is done to many takes alike, and treatments that have a name. */
  let { how = $bindable() }: { how: Alike } = $props();

  const KEY = ["presets"];
  const presets = createQuery(() => ({ queryKey: KEY, queryFn: () => got(api.GET("/api/presets")) }));
  let name = $state("");
  const same = $derived(presets.data?.find((p) => JSON.stringify(p.steps) === JSON.stringify(stepsOf(how))));

  async function keep() {
    const kept = await app.attempt(
      api.POST("/api/presets", { body: { name: name.trim(), steps: stepsOf(how) } }),
    );
    if (!kept) return;
    name = "";
    await cache.invalidateQueries({ queryKey: KEY });
  }
  /** One that somebody shared. */
  async function bring(file: File) {
    const kept = await app.attempted(upload<Preset>("/api/presets/file", file, {}, () => {}));
    if (!kept) return;
    how = fromSteps(kept.steps);
    await cache.invalidateQueries({ queryKey: KEY });
  }
  async function forget(preset: Preset) {
    const path = { preset_id: preset.id };
    await app.attempt(api.DELETE("/api/presets/{preset_id}", { params: { path } }));
    await cache.invalidateQueries({ queryKey: KEY });
  }
</script>

<div
  class="grid grid-cols-[auto_1fr] items-center gap-x-4 gap-y-2"
  role="group"
  aria-label="What is done to all"
>
  {#if presets.data?.length}
    <span class="text-quiet">named</span>
    <div class="flex flex-wrap items-center gap-1.5">
      {#each presets.data as preset (preset.id)}
        <span class="join">
          <button
            class="btn btn-sm join-item {same?.id === preset.id
              ? 'font-bold underline underline-offset-4'
              : ''}"
            aria-pressed={same?.id === preset.id}
            onclick={() => (how = fromSteps(preset.steps))}>{preset.name}</button
          >
          <a
            class="btn btn-sm join-item"
            aria-label="Give out {preset.name}"
            title="As a file for somebody else"
            href="/api/presets/{preset.id}/file"
            download>↧</a
          >
          <button
            class="btn btn-sm join-item"
            aria-label="Forget {preset.name}"
            title="Forget it"
            onclick={() => forget(preset)}>×</button
          >
        </span>
      {/each}
    </div>
  {/if}
  <span class="text-quiet">level</span>
  <div class="flex flex-wrap items-center gap-x-4 gap-y-2">
    <Choice
      label="level of all"
      hidden
      width="w-56"
      value={how.match}
      choices={[
        ["", "as it is"],
        ["original", "as loud as each original"],
        ["median", "to the median of the originals"],
        ["number", "to a loudness"],
        ["gain", "by a gain"],
      ]}
      set={(match) => (how.match = match as Alike["match"])}
    />
    {#if how.match === "number"}
      <NumberStep
        label="loudness"
        unit="LUFS"
        value={how.lufs}
        from={-60}
        to={0}
        by={0.5}
        set={(v) => (how.lufs = v)}
      />
    {:else if how.match === "gain"}
      <NumberStep
        label="gain"
        unit="dB"
        value={how.gain_db}
        from={-60}
        to={40}
        by={0.5}
        set={(v) => (how.gain_db = v)}
      />
    {/if}
    <label class="flex items-center gap-1.5"
      ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={how.limit} /> limiter</label
    >
  </div>
  <span class="text-quiet">silence</span>
  <div class="flex flex-wrap items-center gap-x-4 gap-y-2">
    <label class="flex items-center gap-1.5"
      ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={how.cut_silence} /> cut at both ends</label
    >
    {#if how.cut_silence}
      <NumberStep
        label="below"
        unit="dBFS"
        value={how.silence_db}
        from={-90}
        to={-20}
        set={(v) => (how.silence_db = Math.round(v))}
      />
    {/if}
  </div>
  <span class="text-quiet">length</span>
  <Choice
    label="length of all"
    hidden
    value={how.length}
    choices={LENGTHS}
    set={(length) => (how.length = length as Alike["length"])}
  />
  <span class="text-quiet">name it</span>
  <form
    class="flex gap-2"
    onsubmit={(e) => {
      e.preventDefault();
      if (name.trim()) void keep();
    }}
  >
    <input
      class="input input-sm w-44"
      maxlength="100"
      aria-label="Name of this treatment"
      bind:value={name}
    />
    <button class="btn btn-sm" disabled={!name.trim()}>Keep it</button>
    <label class="btn btn-sm"
      >Bring one …
      <input
        type="file"
        class="sr-only"
        accept=".json,application/json"
        onchange={(e) => {
          const file = e.currentTarget.files?.[0];
          e.currentTarget.value = "";
          if (file) void bring(file);
        }}
      /></label
    >
  </form>
</div>
