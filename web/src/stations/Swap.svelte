<script lang="ts">
  import { untrack } from "svelte";
  import FitTable from "../components/FitTable.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import Steps from "../components/Steps.svelte";
  import TwinLanes from "../components/TwinLanes.svelte";
  import {
    api,
    asProblem,
    every,
    got,
    upload,
    type EntryFile,
    type ProblemText,
    type Stream,
    type Swap,
    type Treatment,
  } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { clock, spaced } from "../lib/format";
  import { itemOf, loopOf, streamTitle } from "../lib/items";
  import { newest } from "../lib/newest";
  import { player, type Track } from "../lib/player.svelte";

  let swaps = $state<Swap[]>([]);
  let files = $state<EntryFile[]>([]);
  let loaded = $state(false);
  let target = $state<Stream | null>(null); // a stream that has no swap yet
  let problem = $state<ProblemText | null>(null);
  let view = $state<"whole" | "loop" | "seam">("whole");
  let sending = $state<number | null>(null);
  let over = $state(false);
  let arriving: Promise<void> = Promise.resolve(); // until the address's stream is known
  let chooser = $state<HTMLInputElement>();

  const mod_id = app.game!.mod_id;
  const swap = $derived(
    swaps.find((s) => String(s.id) === app.detail) ?? (app.detail ? undefined : swaps[0]),
  );
  const stream = $derived(swap?.stream ?? target);
  const busy = $derived(swap?.state === "reading" || swap?.state === "preparing");
  const job = $derived(app.openJobs.find((j) => j.kind === "prepare"));

  const ask = newest(); // a change overtakes a question, too

  async function load() {
    const current = ask();
    const path = { mod_id };
    try {
      const [mod, whole] = await Promise.all([
        every((query) => got(api.GET("/api/mods/{mod_id}/swaps", { params: { path, query } }))),
        every((query) => got(api.GET("/api/mods/{mod_id}/files", { params: { path, query } }))),
      ]);
      if (current()) [swaps, files] = [mod, whole];
    } catch (error) {
      problem = asProblem(error);
    }
    loaded = true;
  }
  void load();

  // While a swap is prepared, look again and again.
  $effect(() => {
    if (!swaps.some((s) => s.state === "reading" || s.state === "preparing")) return;
    const timer = setTimeout(async () => {
      await load();
      void app.refreshRoute();
    }, 250);
    return () => clearTimeout(timer);
  });

  // The address names a swap, or "s" and a stream that is to be swapped.
  $effect(() => {
    const detail = app.detail;
    untrack(() => (arriving = arrive(detail)));
  });

  async function arrive(detail: string): Promise<void> {
    problem = null;
    view = "whole";
    target = null;
    if (!detail.startsWith("s")) return;
    const id = Number(detail.slice(1));
    target =
      (await app.attempt(api.GET("/api/streams/{stream_id}", { params: { path: { stream_id: id } } }))) ??
      null;
    const file = app.dropped;
    app.dropped = null;
    if (file && target) await give(file);
  }

  // What is on screen is what is heard.
  $effect(() => {
    if (!stream) return;
    const item = itemOf(stream, swap);
    untrack(() => {
      const known = player.item?.place === item.place;
      const hadNew = known && player.item?.fresh;
      player.load(item, known && hadNew ? player.side : item.fresh ? "new" : "original");
    });
  });

  async function send(file: File) {
    await arriving;
    await give(file);
  }

  async function give(file: File) {
    if (!stream) {
      problem = {
        what: "No stream is chosen for this file.",
        where: file.name,
        next: "Choose a stream in Locate, then drop the file on it.",
      };
      return;
    }
    sending = 0;
    problem = null;
    try {
      const made = await upload<Swap>(
        `/api/mods/${mod_id}/swaps`,
        file,
        { stream_id: stream.id },
        (share) => (sending = share),
      );
      await load();
      app.wake();
      app.go("swap", String(made.id));
    } catch (error) {
      problem = asProblem(error);
    }
    sending = null;
  }

  function drop(e: DragEvent) {
    e.preventDefault();
    over = false;
    const file = e.dataTransfer?.files[0];
    if (file) void send(file);
  }

  function put(changed: Swap | undefined) {
    if (!changed) return;
    ask();
    swaps = swaps.map((s) => (s.id === changed.id ? changed : s));
    app.wake();
    void app.refreshRoute();
  }

  async function change(steps: Treatment) {
    if (!swap) return;
    try {
      problem = null;
      put(
        await got(api.PATCH("/api/swaps/{swap_id}", { params: { path: { swap_id: swap.id } }, body: steps })),
      );
    } catch (error) {
      problem = asProblem(error);
      await load();
    }
  }

  async function fit(point: string) {
    if (!swap) return;
    try {
      put(
        await got(
          api.POST("/api/swaps/{swap_id}/fit", { params: { path: { swap_id: swap.id } }, body: { point } }),
        ),
      );
    } catch (error) {
      problem = asProblem(error);
    }
  }

  async function remove(gone: Swap) {
    await app.attempt(api.DELETE("/api/swaps/{swap_id}", { params: { path: { swap_id: gone.id } } }));
    await load();
    void app.refreshRoute();
    app.go("swap");
    app.say(`The swap of ${gone.stream ? streamTitle(gone.stream) : gone.place} was removed.`, {
      label: "Undo",
      run: async () => {
        await app.attempt(
          api.POST("/api/swaps/{swap_id}/restore", { params: { path: { swap_id: gone.id } } }),
        );
        await load();
        void app.refreshRoute();
        app.go("swap", String(gone.id));
      },
    });
  }

  /** The replacement's lane: the encoded result, or the file as it is while there is none. */
  const lane = $derived.by((): Track | null => {
    if (!swap?.info) return null;
    if (swap.new) return swap.new as Track;
    const { rate, channels, frames } = swap.info;
    return { audio: swap.source_audio, rate, channels, frames, loop: loopOf(swap) };
  });

  /** A frame of the encoded result as a frame of the user's file. */
  function toSource(frame: number): number {
    if (!swap?.info || !swap.new) return frame;
    const before = frame - swap.pad + swap.cut;
    return Math.round((before * swap.info.rate) / swap.new.rate) + swap.treatment.trim_start;
  }

  function moveLoop(start: number, end: number) {
    void change({ loop: "points", loop_start: Math.max(0, toSource(start)), loop_end: toSource(end) });
  }

  const STATE: Record<string, { sign: string; text: string; tone: string }> = {
    reading: { sign: "…", text: "reading", tone: "text-quiet" },
    preparing: { sign: "…", text: "preparing", tone: "text-quiet" },
    ready: { sign: "✓", text: "fits", tone: "text-success" },
    open: { sign: "↻", text: "can be fitted", tone: "text-primary" },
    failed: { sign: "■", text: "failed", tone: "text-error" },
  };
  const stateOf = (s: Swap) =>
    s.state === "open" && s.verdict === "blocks"
      ? { sign: "■", text: "blocks", tone: "text-error" }
      : STATE[s.state]!;
</script>

{#snippet dropZone(large: boolean)}
  <button
    class="w-full rounded-box border border-dashed px-3 text-center {large ? 'py-12' : 'py-4'} {over
      ? 'border-primary bg-base-300'
      : 'border-edge'}"
    onclick={() => chooser?.click()}
    ondragover={(e) => {
      e.preventDefault();
      over = true;
    }}
    ondragleave={() => (over = false)}
    ondrop={drop}
  >
    {#if sending !== null}
      <progress class="progress progress-primary w-48" value={sending} max="1" aria-label="Sending the file"
      ></progress>
    {:else}
      <span class="font-medium"
        >{large ? "Drop the replacement here, or choose a file" : "Drop another file"}</span
      >
      <span class="block text-quiet">WAV, AIFF, FLAC, Ogg or MP3</span>
    {/if}
  </button>
{/snippet}

<svelte:window ondragover={(e) => e.preventDefault()} ondrop={(e) => e.preventDefault()} />
<input
  type="file"
  class="hidden"
  aria-label="Replacement file"
  accept="audio/*,.wav,.aiff,.aif,.flac,.ogg,.opus,.mp3"
  bind:this={chooser}
  onchange={(e) => {
    const file = e.currentTarget.files?.[0];
    e.currentTarget.value = "";
    if (file) void send(file);
  }}
/>

<div class="flex h-full max-lg:block">
  <nav
    aria-label="Swaps of this mod"
    class="flex w-[225px] shrink-0 flex-col gap-2 overflow-auto border-r border-line bg-base-200 p-3 max-lg:w-full"
  >
    <p class="text-quiet">Swaps of this mod</p>
    {#each swaps as s (s.id)}
      {@const st = stateOf(s)}
      <a
        href="#/{app.gameId}/swap/{s.id}"
        class="rounded-field border-l-[3px] px-2.5 py-1.5 {s.id === swap?.id
          ? 'border-primary bg-base-300'
          : 'border-transparent hover:bg-base-300'}"
        aria-current={s.id === swap?.id ? "true" : undefined}
      >
        <span class="flex items-baseline justify-between gap-2">
          <span class="truncate font-semibold">{s.stream ? streamTitle(s.stream) : s.place}</span>
          <span class="shrink-0 {st.tone}">{st.sign} {st.text}</span>
        </span>
        <span class="block truncate text-quiet">{s.source_name}</span>
      </a>
    {:else}
      {#if loaded}<p>None yet. Choose a stream in Locate, then swap it.</p>{/if}
    {/each}
    {#if files.length}
      <p class="mt-3 text-quiet">Whole files in archives</p>
      {#each files as f (f.id)}
        <a
          href="#/{app.gameId}/survey/{encodeURIComponent(f.archive)}"
          class="rounded-field px-2.5 py-1.5 hover:bg-base-300"
        >
          <span class="block truncate font-semibold" title={f.entry}>{f.entry.split("/").at(-1)}</span>
          <span class="block truncate text-quiet"
            >{f.adds ? "added from" : "replaced by"} {f.source_name}</span
          >
        </a>
      {/each}
    {/if}
    {#if swap}<div class="mt-auto pt-3">{@render dropZone(false)}</div>{/if}
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
              {#each [["whole", "whole"], ["loop", "loop"], ["seam", "seam ±3 s"]] as const as [key, label] (key)}
                <button
                  class="btn btn-sm join-item {view === key ? 'font-bold underline underline-offset-4' : ''}"
                  aria-pressed={view === key}
                  disabled={key !== "whole" && !lane?.loop}
                  onclick={() => (view = key)}>{label}</button
                >
              {/each}
            </div>
            <button class="btn btn-sm" onclick={() => remove(swap)}>Remove swap</button>
          </div>
        {/if}
      </div>
    {/if}
    {#if problem}<div class="mt-3"><ProblemPanel {problem} close={() => (problem = null)} /></div>{/if}
    {#if swap?.error}
      <div class="mt-3"><ProblemPanel problem={swap.error} /></div>
      {#if swap.state === "failed"}
        <button class="btn btn-sm mt-2" onclick={() => change({})}>Try again</button>
      {/if}
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
            freshLabel={swap.new
              ? "new, as encoded"
              : busy
                ? "being prepared"
                : "the file as it is, not encoded yet"}
            blockFrames={stream.block_frames}
            {view}
            {moveLoop}
          />
        </div>
        <Steps {swap} {stream} {change}>
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
        </Steps>
      {:else if busy}
        <p role="status" class="mt-6 flex items-center gap-3 text-quiet">
          <span class="loading loading-spinner"></span> Reading {swap.source_name} …
        </p>
      {/if}
      {#if swap.points.length}
        <div class="mt-3"><FitTable {swap} {fit} /></div>
      {/if}
      {#if swap.new}
        <p class="mt-2 text-quiet">
          What you hear as <em>new</em> is the encoded stream, decoded as the game does{swap.new.snr_db ===
          null
            ? "; it is identical to what was meant."
            : `; it differs from what was meant by noise ${swap.new.snr_db.toFixed(1)} dB below it.`}
        </p>
      {/if}
    {:else if target}
      <p class="mt-2 text-quiet">
        {clock(target.seconds)} · {spaced(target.rate)} Hz · {target.channels === 1
          ? "mono"
          : `${target.channels} channels`}
        · {target.codec} · {target.loop ? "loops" : "plays once"}
      </p>
      <div class="mt-5 max-w-xl">{@render dropZone(true)}</div>
      <p class="mt-3 max-w-xl text-quiet">
        Your file is copied; it and the game stay as they are. Rate, channels and loop are compared next, and
        nothing is changed without your word.
      </p>
    {:else if loaded}
      <h1 class="text-xl font-bold">No swap yet</h1>
      <p class="mt-2 max-w-lg text-quiet">
        A swap puts a file of yours in the place of one stream. Find the stream first: sort by length to tell
        music from cues, and listen with the arrow keys.
      </p>
      <a class="btn btn-primary mt-4" href="#/{app.gameId}/locate">Find a stream in Locate</a>
    {/if}
  </section>
</div>
