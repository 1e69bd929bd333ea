<script lang="ts">
  import { onDestroy, untrack } from "svelte";
  import Modal from "../components/Modal.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import type { Line } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { streamTitle } from "../lib/items";
  import { player } from "../lib/player.svelte";
  import { heard } from "./lines.svelte";
  import { forget, Recorder, wavOf, type Recording } from "./recorder.svelte";

  /** One line after the other is recorded, by keys alone: the text is read, the original heard, a take kept or made again. */
  let {
    line,
    keep,
    next,
    close,
  }: {
    line: Line;
    /** A file becomes a take of the line. */
    keep: (line: Line, file: File) => Promise<boolean>;
    /** To the next line; whether there is one. */
    next: () => Promise<boolean>;
    close: () => void;
  } = $props();

  const COUNTS = 3;
  const recorder = new Recorder();
  let modal: Modal;
  let counting = $state(0);
  let counted = $state(localStorage.getItem("zubret count-in") !== "no");
  $effect(() => localStorage.setItem("zubret count-in", counted ? "yes" : "no"));
  let take = $state.raw<Recording | null>(null);
  let busy = $state(false);
  let timer = 0;
  let url = $state("");
  let review = $state<HTMLAudioElement>();
  const guide = $derived(line.stream.seconds);
  const decibels = (level: number) => (level > 0 ? 20 * Math.log10(level) : -Infinity);
  const shown = $derived(Math.max(0, Math.min(1, 1 + decibels(recorder.level) / 60)));

  void recorder.open();
  onDestroy(() => {
    clearTimeout(timer);
    recorder.close();
    if (url) URL.revokeObjectURL(url);
  });
  // Another line begins anew; the same one, told anew while others are prepared, does not.
  const id = $derived(line.stream.id);
  $effect(() => {
    void id;
    untrack(() => drop());
  });

  function drop() {
    clearTimeout(timer);
    counting = 0;
    take = null;
    recorder.clear();
    if (url) URL.revokeObjectURL(url);
    url = "";
  }

  function original() {
    player.load(heard(line), "original");
    void player.start(0);
  }

  function begin() {
    if (!recorder.ready || busy) return;
    player.stop();
    review?.pause();
    drop();
    const count = (left: number) => {
      counting = left;
      if (left) timer = window.setTimeout(() => count(left - 1), 700);
      else {
        recorder.begin({ stream: id, title: streamTitle(line.stream), game: app.gameId });
      }
    };
    count(counted ? COUNTS : 0);
  }

  async function stop() {
    clearTimeout(timer);
    if (counting) return drop();
    take = await recorder.end();
    if (take) url = URL.createObjectURL(wavOf(take));
  }

  const turn = () => (recorder.recording || counting ? void stop() : begin());

  async function use() {
    if (!take || busy) return;
    busy = true;
    const kept = await keep(line, wavOf(take));
    busy = false;
    if (kept) await onward();
  }

  async function onward() {
    if (recorder.recording || busy) return;
    if (take) await forget(); // it is passed over, or kept
    drop();
    if (!(await next())) modal.close();
  }

  function onkeydown(e: KeyboardEvent) {
    if ((e.target as HTMLElement).closest("select, input") || e.ctrlKey || e.metaKey || e.altKey) return;
    const deeds: Record<string, () => void> = {
      r: turn,
      " ": turn,
      o: original,
      p: () => void review?.play(),
      Enter: () => void use(),
      n: () => void onward(),
    };
    const deed = deeds[e.key.length === 1 ? e.key.toLowerCase() : e.key];
    if (!deed || (e.key === "Enter" && !take)) return;
    e.preventDefault();
    deed();
  }
</script>

<Modal bind:this={modal} label="Record" width="w-[50rem]" onclose={close} {onkeydown}>
  <div class="flex items-start justify-between gap-4">
    <div>
      <h2 class="text-lg font-bold">Record {streamTitle(line.stream)}</h2>
      <p class="text-quiet">
        {[line.stream.language, line.stream.author, line.stream.notes].filter(Boolean).join(" · ") ||
          line.stream.place}
      </p>
    </div>
    <button class="btn btn-sm" onclick={() => modal.close()}>Close</button>
  </div>
  <!-- svelte-ignore a11y_autofocus -->
  <p class="my-6 min-h-20 text-center text-3xl leading-snug whitespace-pre-line" tabindex="-1" autofocus>
    {#if counting}<span class="num text-primary">{counting}</span>{:else}{line.stream.text ||
        "No text yet"}{/if}
  </p>
  {#if recorder.problem}
    <ProblemPanel problem={recorder.problem} />
    <button class="btn btn-sm mt-2" onclick={() => recorder.open()}>Try again</button>
  {:else}
    <div class="space-y-2">
      <div class="flex items-center gap-3">
        <span class="w-16 text-quiet">level</span>
        <div
          class="h-3 grow overflow-hidden rounded-full bg-base-300"
          role="meter"
          aria-label="Level, dBFS"
          aria-valuemin="-60"
          aria-valuemax="0"
          aria-valuenow={Math.round(Math.max(-60, decibels(recorder.level)))}
        >
          <div
            class="h-full {recorder.level >= 0.999 ? 'bg-error' : 'bg-success'}"
            style="width: {shown * 100}%"
          ></div>
        </div>
        <span class="num w-20 text-right"
          >{recorder.level ? `${decibels(recorder.level).toFixed(0).replace("-", "−")} dBFS` : "–"}</span
        >
      </div>
      <div class="flex items-center gap-3">
        <span class="w-16 text-quiet">length</span>
        <div class="relative h-3 grow overflow-hidden rounded-full bg-base-300">
          <div
            class="h-full bg-new"
            style="width: {Math.min(100, (recorder.seconds / (guide * 1.5)) * 100)}%"
          ></div>
          <div class="absolute inset-y-0 w-0.5 bg-base-content" style="left: {100 / 1.5}%"></div>
        </div>
        <span class="num w-28 text-right" role="status"
          >{recorder.seconds.toFixed(1)} of {guide.toFixed(1)} s</span
        >
      </div>
      {#if recorder.clipped}<p class="text-error">
          ■ Too loud: it was cut off at full scale. Record it again.
        </p>{/if}
    </div>
    <div class="mt-4 flex flex-wrap items-center justify-center gap-2">
      <button class="btn" onclick={original}>▶ Original <kbd class="kbd kbd-sm">O</kbd></button>
      <button class="btn btn-primary" disabled={!recorder.ready || busy} onclick={turn}
        >{recorder.recording || counting ? "■ Stop" : take ? "● Again" : "● Record"}
        <kbd class="kbd kbd-sm">R</kbd></button
      >
      <button class="btn" disabled={!take} onclick={() => review?.play()}
        >▶ Take <kbd class="kbd kbd-sm">P</kbd></button
      >
      <button class="btn" disabled={!take || busy} onclick={use}
        >{busy ? "Keeping …" : "Keep, next"} <kbd class="kbd kbd-sm">Enter</kbd></button
      >
      <button class="btn" disabled={busy || recorder.recording} onclick={onward}
        >Next <kbd class="kbd kbd-sm">N</kbd></button
      >
    </div>
    <div class="mt-5 flex flex-wrap items-center justify-between gap-3">
      <label class="flex items-center gap-2">
        <span class="text-quiet">input</span>
        <select
          class="select select-sm w-64"
          value={recorder.device}
          disabled={recorder.recording}
          onchange={(e) => {
            recorder.device = e.currentTarget.value;
            void recorder.open();
          }}
        >
          {#each recorder.devices as d (d.deviceId)}<option value={d.deviceId}
              >{d.label || "microphone"}</option
            >{/each}
        </select>
      </label>
      <label class="flex items-center gap-1.5"
        ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={counted} /> count in</label
      >
    </div>
  {/if}
  {#if url}<audio bind:this={review} src={url}></audio>{/if}
</Modal>
