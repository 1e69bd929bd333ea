<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { untrack } from "svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import WhoWins from "../components/WhoWins.svelte";
  import { asProblem, attempted, type ProblemText, type Treatment } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { clock, spaced } from "../lib/format";
  import { itemOf, streamTitle } from "../lib/items";
  import { player, type Track } from "../lib/player.svelte";
  import { streamOf } from "../lib/streams.svelte";
  import DropZone from "../swap/DropZone.svelte";
  import FitTable from "../swap/FitTable.svelte";
  import OtherStream from "../swap/OtherStream.svelte";
  import SeamBench from "../swap/SeamBench.svelte";
  import Steps from "../swap/Steps.svelte";
  import SwapList from "../swap/SwapList.svelte";
  import {
    change,
    choose,
    fit,
    give,
    giveStream,
    isBusy,
    putIn,
    remove,
    step,
    swapsUnderWay,
    type Begin,
  } from "../swap/swaps";
  import Takes from "../swap/Takes.svelte";
  import TwinLanes from "../swap/TwinLanes.svelte";

  const VIEWS = [
    ["whole", "whole"],
    ["loop", "loop"],
    ["seam", "seam ±3 s"],
    ["file", "file"],
  ] as const;
  let problem = $state<ProblemText | null>(null);
  let view = $state<"whole" | "loop" | "seam" | "file">("whole");
  let sending = $state<number | null>(null);
  let seeking = $state(false);

  const game_id = app.gameId;
  const swaps = createQuery(() => ({ ...swapsUnderWay(game_id, app.game!.mod_id), meta: { shown: true } }));
  // The address names a swap, or "s" and a stream that is to be swapped.
  const wanted = $derived(app.detail.startsWith("s") ? Number(app.detail.slice(1)) : 0);
  const target = createQuery(() => ({ ...streamOf(game_id, wanted), enabled: !!wanted }));
  const swap = $derived(
    swaps.data?.find((s) => String(s.id) === app.detail) ??
      (app.detail ? undefined : swaps.data?.find((s) => s.chosen)),
  );
  const takes = $derived(swap ? swaps.data!.filter((s) => s.key === swap.key) : []);
  const stream = $derived(swap?.stream ?? (wanted ? target.data : undefined));
  const busy = $derived(isBusy(swap));
  const job = $derived(app.openJobs.find((j) => j.kind === "prepare"));

  const attempt = <T,>(work: () => Promise<T>) => attempted(work, (p) => (problem = p));

  $effect(() => {
    void app.detail;
    problem = null;
    view = "whole";
  });

  // What a swap is being made into tells the route, too.
  let was = false;
  $effect(() => {
    if (was && !busy) void app.refreshRoute();
    was = busy;
  });

  // A file that was dropped on the stream elsewhere has come along.
  $effect(() => {
    if (!target.data || !app.dropped) return;
    const file = app.dropped;
    app.dropped = null;
    untrack(() => void send(file));
  });

  /** What is on screen is what is heard. */
  function hear() {
    if (!stream) return;
    const item = itemOf(stream, swap);
    untrack(() => {
      const known = player.item?.place === item.place;
      const hadNew = known && player.item?.fresh;
      player.load(item, known && hadNew ? player.side : item.fresh ? "new" : "original");
    });
  }
  $effect(hear);

  /** A swap of this stream without a file. */
  async function begin(id: number, source: Begin) {
    const [made] = await putIn([id], source);
    if (made) app.go("swap", String(made));
  }

  async function send(file: File) {
    if (!stream) return;
    const into = stream;
    sending = 0;
    await attempt(() => give(into, file, (share) => (sending = share)));
    sending = null;
  }

  /** The replacement's lane: the encoded result, or the file as it is while there is none, or if it is to be seen. */
  const lane = $derived.by((): Track | null => {
    if (!swap?.info) return null;
    if (swap.new && view !== "file") return swap.new as Track;
    const { rate, channels, frames } = swap.info;
    return { audio: swap.source_audio, rate, channels, frames, loop: swap.loop };
  });

  /** The loop was moved in the replacement's lane. */
  async function moveLoop(start: number, end: number) {
    if (!swap) return;
    const points =
      swap.new && view !== "file"
        ? { new_loop: [start, end] }
        : { loop: "points", loop_start: start, loop_end: end };
    await attempt(() => change(swap, points));
  }
  const treat = async (steps: Treatment) => {
    await attempt(() => change(swap!, steps));
  };

  /** One take goes, and the one beside it is seen; with the last, the swap does. */
  function removeTake() {
    if (!swap) return;
    const at = takes.indexOf(swap);
    void attempt(() => remove(swap, false, takes[at + 1] ?? takes[at - 1]));
  }

  function onkeydown(e: KeyboardEvent) {
    const key = e.key.toLowerCase();
    if (!swap || (e.target as HTMLElement).closest("input:not([type=checkbox]), textarea, dialog")) return;
    if (e.ctrlKey || e.metaKey) {
      const way = key === "y" || (key === "z" && e.shiftKey) ? "redo" : key === "z" ? "undo" : null;
      if (!way || !(way === "undo" ? swap.undos : swap.redos)) return;
      void attempt(() => step(swap, way));
    } else if (key === "t" && takes.length > 1 && !e.altKey && !(e.target as HTMLElement).closest("select")) {
      app.go("swap", String(takes[(takes.indexOf(swap) + 1) % takes.length]!.id));
    } else return;
    e.preventDefault();
  }
</script>

<svelte:window {onkeydown} ondragover={(e) => e.preventDefault()} ondrop={(e) => e.preventDefault()} />

<div class="flex h-full max-lg:block">
  <nav
    aria-label="Swaps of this mod"
    class="flex w-[225px] shrink-0 flex-col border-r border-line bg-base-200 p-3 max-lg:w-full"
  >
    <div class="flex min-h-0 flex-col gap-2 overflow-auto">
      <SwapList swaps={swaps.data} current={swap} />
    </div>
    {#if swap}
      <div class="mt-auto flex flex-col gap-2 pt-3">
        <DropZone {sending} {send} />
        <button class="btn btn-sm" disabled={!swap.stream} onclick={() => (seeking = true)}
          >Take another stream …</button
        >
      </div>
    {/if}
  </nav>

  <section class="min-w-0 grow overflow-auto px-4 py-3 [scrollbar-gutter:stable]">
    {#if stream}
      <div class="flex flex-wrap items-start justify-between gap-3">
        <div class="min-w-0">
          <h1 class="text-xl font-bold">{streamTitle(stream)}</h1>
          <p class="num break-words text-quiet">{stream.place}</p>
        </div>
        {#if swap}
          <div class="flex items-center gap-2">
            <div class="join" role="group" aria-label="What the lanes show">
              {#each VIEWS as [key, label] (key)}
                <button
                  class="btn btn-sm join-item {view === key ? 'font-bold underline underline-offset-4' : ''}"
                  aria-pressed={view === key}
                  disabled={key === "file" ? !swap.info : key !== "whole" && !lane?.loop}
                  onclick={() => (view = key)}>{label}</button
                >
              {/each}
            </div>
            <div class="join">
              <button
                class="btn btn-sm join-item"
                title="Ctrl Z"
                disabled={!swap.undos}
                onclick={() => attempt(() => step(swap, "undo"))}>Undo</button
              >
              <button
                class="btn btn-sm join-item"
                title="Ctrl Shift Z"
                disabled={!swap.redos}
                onclick={() => attempt(() => step(swap, "redo"))}>Redo</button
              >
            </div>
            <button class="btn btn-sm" onclick={() => attempt(() => remove(swap, true))}>Remove swap</button>
          </div>
        {/if}
      </div>
    {/if}
    {#if stream}<div class="mt-2"><WhoWins stream={stream.id} losers /></div>{/if}
    {#if swap && takes.length > 1}
      <Takes {takes} current={swap} choose={() => attempt(() => choose(swap))} remove={removeTake} />
    {/if}
    {#if swaps.error}<div class="mt-3"><ProblemPanel problem={asProblem(swaps.error)} /></div>{/if}
    {#if problem}<div class="mt-3"><ProblemPanel {problem} close={() => (problem = null)} /></div>{/if}
    {#if swap?.error}
      <div class="mt-3"><ProblemPanel problem={swap.error} /></div>
      {#if swap.state === "failed"}
        <button class="btn btn-sm mt-2" onclick={() => attempt(() => change(swap, {}))}>Try again</button>
      {/if}
    {:else if swap?.state === "held"}
      <p class="mt-6 flex items-center gap-3">
        {swap.source_name} was sent, and is not prepared yet.
        <button class="btn btn-sm btn-primary" onclick={() => attempt(() => change(swap, {}))}
          >Prepare it</button
        >
      </p>
    {/if}

    {#if swap && stream}
      {#if stream.shared}
        <p class="mt-2 rounded-field bg-base-300 px-3 py-2">
          Note: {stream.shared} more {stream.shared === 1 ? "stream is" : "streams are"} stored in the same bytes
          and will change too.
        </p>
      {/if}
      {#if lane}
        <div class="mt-3">
          <TwinLanes
            original={stream}
            fresh={lane}
            freshLabel={view === "file"
              ? "the file"
              : swap.new
                ? "new, as encoded"
                : busy
                  ? "being prepared"
                  : "the file as it is, not encoded yet"}
            blockFrames={view === "file" ? 1 : stream.block_frames}
            view={view === "file" ? "whole" : view}
            {moveLoop}
            edges={view === "file" ? { swap, change: treat } : undefined}
          />
        </div>
        {#if view === "seam" && (swap.new?.loop || busy)}
          <SeamBench {swap} block={stream.block_frames} change={treat} />
        {/if}
        {#snippet onward()}
          <div class="ml-auto self-center">
            {#if swap.state === "ready"}
              <a class="btn btn-primary" href="#/{app.gameId}/rebuild">Go to Rebuild</a>
            {:else if busy}
              <p role="status" class="flex items-center gap-2 text-quiet">
                <span class="loading loading-spinner loading-sm"></span>{job?.note || "preparing"}
                {#if job}<button class="btn btn-xs" onclick={() => app.cancel(job)}>Cancel</button>{/if}
              </p>
            {/if}
          </div>
        {/snippet}
        {#if swap.source === "stored"}
          <div class="mt-3 flex flex-wrap gap-3 rounded-box bg-base-200 p-3">
            <p class="min-w-0 grow">
              Taken as <span class="num break-all">{swap.source_name}</span> stores it: never encoded again, so
              nothing is done to it here. Another take of this stream can be a file of yours.
            </p>
            {@render onward()}
          </div>
        {:else}
          <Steps {swap} {stream} change={treat}>{@render onward()}</Steps>
        {/if}
      {:else if busy}
        <p role="status" class="mt-6 flex items-center gap-3 text-quiet">
          <span class="loading loading-spinner"></span> Reading {swap.source_name} …
        </p>
      {/if}
      {#if swap.points.length}
        <div class="mt-3"><FitTable {swap} fit={(point) => attempt(() => fit(swap, point))} /></div>
      {/if}
      {#if swap.new}
        <p class="mt-2 text-quiet">
          What you hear as <em>new</em> is the encoded stream, decoded as the game does{swap.source ===
          "stored"
            ? "."
            : swap.new.snr_db === null
              ? "; it is identical to what was meant."
              : `; it differs from what was meant by noise ${swap.new.snr_db.toFixed(1)} dB below it.`}
        </p>
      {/if}
    {:else if stream}
      <p class="mt-2 text-quiet">
        {clock(stream.seconds)} · {spaced(stream.rate)} Hz · {stream.channels === 1
          ? "mono"
          : `${stream.channels} channels`}
        · {stream.codec} · {stream.loop ? "loops" : "plays once"}
      </p>
      <div class="mt-5 max-w-xl"><DropZone large {sending} {send} /></div>
      <p class="mt-3 flex flex-wrap items-center gap-2">
        Or without a file:
        {#each [["silence", "Mute it"], ["original", "Begin with the original"]] as const as [source, label] (source)}
          <button class="btn btn-sm" onclick={() => begin(stream.id, source)}>{label}</button>
        {/each}
        <button class="btn btn-sm" onclick={() => (seeking = true)}>Another stream of this game …</button>
      </p>
      <p class="mt-3 max-w-xl text-quiet">
        Your file is copied; it and the game stay as they are. Rate, channels and loop are compared next, and
        nothing is changed without your word.
      </p>
    {:else if swaps.data && app.detail && !wanted}
      <h1 class="text-xl font-bold">This swap is gone</h1>
      <p class="mt-2 max-w-lg text-quiet">
        It was removed, perhaps in another window, where it can be had back for a while.
      </p>
      <a class="btn mt-4" href="#/{app.gameId}/swap">Show the swaps of this mod</a>
    {:else if swaps.data && !wanted}
      <h1 class="text-xl font-bold">No swap yet</h1>
      <p class="mt-2 max-w-lg text-quiet">
        A swap puts a file of yours in the place of one stream. Find the stream first: sort by length to tell
        music from cues, and listen with the arrow keys.
      </p>
      <a class="btn btn-primary mt-4" href="#/{app.gameId}/locate">Find a stream in Locate</a>
    {/if}
  </section>
</div>

{#if seeking && stream}
  <OtherStream
    into={stream}
    take={(other) => attempt(() => giveStream(stream, other))}
    close={() => {
      seeking = false;
      hear();
    }}
  />
{/if}
