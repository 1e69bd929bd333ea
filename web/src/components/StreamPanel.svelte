<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import type { Stream, Swap } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { clock, bytes, spaced } from "../lib/format";
  import ByteRibbon from "./ByteRibbon.svelte";
  import { streamTitle } from "../lib/items";
  import { ribbonOf } from "../lib/ribbon";
  import SaveAs from "./SaveAs.svelte";
  import Sheet from "./Sheet.svelte";
  import WhoWins from "./WhoWins.svelte";

  /** What is known of the chosen stream, and what can be done with it. */
  let {
    stream,
    swap,
    give,
    next,
  }: {
    stream: Stream;
    swap: Swap | undefined;
    give: (stream: Stream, what: { name?: string; marked?: boolean }) => Promise<void>;
    /** Goes to the next stream and to the field of its name. */
    next: (field: () => HTMLInputElement) => Promise<void>;
  } = $props();
  let naming = $state<HTMLInputElement>();

  let dragging = $state(false);
  const ribbon = createQuery(() => ({ ...ribbonOf(stream.archive_id), meta: { shown: true } }));

  /** How loud the game plays it, by thousandths. */
  const gain = (n: number) => [
    `× ${(n / 1000).toFixed(2)}`,
    n > 0 ? `${(20 * Math.log10(n / 1000)).toFixed(1)} dB, as the bank says` : "silent",
  ];
  const facts = $derived([
    ["length", clock(stream.seconds), `${spaced(stream.frames)} frames`],
    [
      "rate",
      `${spaced(stream.rate)} Hz`,
      stream.channels === 1 ? "1 channel" : `${stream.channels} channels`,
    ],
    [
      "codec",
      stream.codec,
      stream.block_size
        ? `${spaced(stream.block_size)} B · ${spaced(stream.block_frames)} frames a block`
        : "",
    ],
    [
      "loop",
      stream.loop
        ? `${clock(stream.loop[0]! / stream.rate)} → ${stream.loop[1] === stream.frames ? "end" : clock(stream.loop[1]! / stream.rate)}`
        : "none",
      stream.loop ? `${spaced(stream.loop[0]!)} – ${spaced(stream.loop[1]!)}` : "plays once",
    ],
    ["stored", bytes(stream.stored), `${stream.entry}, byte ${spaced(stream.at)}`],
    ...(stream.language ? [["language", stream.language, ""]] : []),
    ...(stream.said.label ? [["label", String(stream.said.label), ""]] : []),
    ...("gain" in stream.said ? [["gain", ...gain(Number(stream.said.gain))]] : []),
    ...("priority" in stream.said ? [["priority", spaced(Number(stream.said.priority)), ""]] : []),
    ...(stream.shared ? [["shared", `with ${stream.shared} more`, "a swap changes all of them"]] : []),
  ]);

  function drop(e: DragEvent) {
    e.preventDefault();
    dragging = false;
    const file = e.dataTransfer?.files[0];
    if (!file) return;
    app.dropped = file;
    app.go("swap", `s${stream.id}`);
  }
</script>

<Sheet
  label="The chosen stream"
  title={streamTitle(stream)}
  width="285px"
  class={dragging ? "outline-2 outline-primary" : ""}
  ondragover={(e) => {
    e.preventDefault();
    dragging = true;
  }}
  ondragleave={() => (dragging = false)}
  ondrop={drop}
>
  <div>
    <div class="flex items-center gap-2">
      {#key stream.id}
        <input
          class="input input-ghost -ml-2 h-9 w-full px-2 text-lg font-bold"
          aria-label="Given name"
          placeholder="Give it a name"
          maxlength="200"
          title="Enter goes on to the next stream's name"
          bind:this={naming}
          value={stream.name}
          onchange={(e) => give(stream, { name: e.currentTarget.value })}
          onkeydown={(e) => {
            if (e.key !== "Enter") return;
            e.currentTarget.blur(); // which gives the name
            void next(() => naming!);
          }}
        />
      {/key}
      <button
        class="btn btn-sm btn-square text-primary"
        aria-pressed={stream.marked}
        aria-label={stream.marked ? "Take the mark away" : "Mark this stream"}
        onclick={() => give(stream, { marked: !stream.marked })}>{stream.marked ? "◆" : "◇"}</button
      >
    </div>
    <p class="num mt-1 break-words text-quiet">{stream.place}</p>
  </div>
  <dl>
    {#each facts as [name, value, more] (name)}
      <div class="grid grid-cols-[68px_1fr] border-t border-line py-1.5 last:border-b">
        <dt class="text-quiet">{name}</dt>
        <dd class="min-w-0">
          <span class="num">{value}</span>
          {#if more}<span class="num block break-words text-quiet">{more}</span>{/if}
        </dd>
      </div>
    {/each}
  </dl>
  <WhoWins stream={stream.id} />
  {#if ribbon.data}
    <div>
      <h3 class="mb-1.5 text-quiet">The bytes of {stream.archive.split("/").at(-1)}</h3>
      <ByteRibbon
        ribbon={ribbon.data}
        label={stream.archive}
        mark={stream.archive_at === null ? undefined : { at: stream.archive_at, length: stream.stored }}
      />
    </div>
  {/if}
  <div class="mt-auto flex flex-col gap-2 pt-2">
    <button class="btn btn-primary" onclick={() => app.go("swap", swap ? String(swap.id) : `s${stream.id}`)}
      >{swap ? "Open its swap" : "Swap this stream"}</button
    >
    <SaveAs
      {stream}
      kinds={[
        ["wav", "Take out WAV"],
        ["ogg", "Take out Ogg"],
      ]}
    />
    <button class="btn btn-sm" onclick={() => app.go("stream", `s${stream.id}`)}
      >Look closer <kbd class="kbd kbd-sm">E</kbd></button
    >
  </div>
</Sheet>
