<script lang="ts">
  import type { ReadingOut } from "../lib/api";
  import { clock, spaced } from "../lib/format";
  import { player } from "../lib/player.svelte";

  /** What of a reading can be turned while it is heard. */
  let {
    reading,
    rate = $bindable(),
    rates,
    why,
    channels,
    turn,
    draft,
  }: {
    reading: ReadingOut;
    /** Hz. */
    rate: number;
    /** Usual ones. */
    rates: number[];
    /** What speaks for one of them. */
    why: string;
    /** At most. */
    channels: number;
    turn: (change: Partial<ReadingOut>) => void;
    draft: () => void;
  } = $props();

  const hz = $derived(reading.fixed_rate ? reading.rate : rate);

  function turnParameter(name: string, value: string) {
    const tried = reading.turns.find((t) => t.name === name)!.values.find((v) => String(v) === value)!;
    turn({ parameters: { ...reading.parameters, [name]: tried } });
  }
</script>

<form class="rounded-box border border-edge p-3" aria-label="Turn" onsubmit={(e) => e.preventDefault()}>
  <h2 class="font-semibold">{reading.label}</h2>
  <div class="mt-2 flex flex-wrap items-end gap-x-4 gap-y-2">
    {#if !reading.fixed_rate}
      <label class="block"
        ><span class="text-quiet">rate, Hz</span>
        <input
          class="input input-sm num mt-0.5 w-28"
          type="number"
          min="1"
          max="4000000"
          bind:value={rate}
          onchange={() => turn({})}
        /></label
      >
      <div class="join" role="group" aria-label="Usual rates">
        {#each rates as r (r)}
          <button
            type="button"
            class="btn btn-sm join-item num {rate === r ? 'border-primary! font-semibold' : ''}"
            aria-pressed={rate === r}
            onclick={() => {
              rate = r;
              void turn({});
            }}>{r / 1000}</button
          >
        {/each}
      </div>
      {#if why}<p class="order-last w-full text-quiet">Rate: {why}. The ear decides.</p>{/if}
    {/if}
    <label class="block"
      ><span class="text-quiet">channels</span>
      <input
        class="input input-sm num mt-0.5 w-20"
        type="number"
        min="1"
        max={channels}
        value={reading.channels}
        onchange={(e) => turn({ channels: Number(e.currentTarget.value) })}
      /></label
    >
    <label class="block"
      ><span class="text-quiet">bytes skipped</span>
      <input
        class="input input-sm num mt-0.5 w-24"
        type="number"
        min="0"
        value={reading.skip}
        onchange={(e) => turn({ skip: Number(e.currentTarget.value) })}
      /></label
    >
    {#if reading.block_size}
      <label class="block"
        ><span class="text-quiet">block, bytes</span>
        <input
          class="input input-sm num mt-0.5 w-24"
          type="number"
          min="1"
          value={reading.block_size}
          onchange={(e) => turn({ block_size: Number(e.currentTarget.value) })}
        /></label
      >
    {/if}
    {#each reading.turns as { name, values: tried } (name)}
      <label class="block"
        ><span class="text-quiet">{name}</span>
        <select
          class="select select-sm mt-0.5 w-32"
          value={String(reading.parameters[name] ?? "")}
          onchange={(e) => turnParameter(name, e.currentTarget.value)}
        >
          {#if reading.parameters[name] === undefined}<option value="">usual</option>{/if}
          {#each tried as value (value)}<option value={String(value)}>{value}</option>{/each}
        </select></label
      >
    {/each}
  </div>
  <div class="mt-3 flex items-center justify-between gap-4">
    <p class="num text-quiet">
      {spaced(reading.frames)} frames, {clock(reading.frames / hz)} at {spaced(hz)} Hz{reading.fixed_rate
        ? ", as its bytes say"
        : ""}
    </p>
    <div class="flex gap-2">
      <button type="button" class="btn btn-sm" onclick={() => player.toggle()}
        >{player.playing ? "Pause" : "Play"} <kbd class="kbd kbd-sm">Space</kbd></button
      >
      <button type="button" class="btn btn-sm btn-primary" onclick={draft}>Make a layout of it</button>
    </div>
  </div>
</form>
