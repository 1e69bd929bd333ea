<script lang="ts">
  import { createQuery, keepPreviousData } from "@tanstack/svelte-query";
  import ChevronLeft from "@lucide/svelte/icons/chevron-left";
  import ChevronRight from "@lucide/svelte/icons/chevron-right";
  import { untrack } from "svelte";
  import FiguresPanel from "../components/FiguresPanel.svelte";
  import WaveView from "../components/WaveView.svelte";
  import { api, got } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { cache, ofGame } from "../lib/cache";
  import { clock, spaced } from "../lib/format";
  import { itemOf } from "../lib/items";
  import { player } from "../lib/player.svelte";
  import { asked } from "../lib/query";
  import { pagesOf, say, streamOf, type Said } from "../lib/streams.svelte";

  const game_id = app.gameId;
  let waiting: -1 | 0 | 1 = 0; // a step that waits for the neighbours
  let view = $state<[number, number]>([0, 1]);
  let mixed = $state(false);
  let drawing = $state<WaveView>();
  let typed = $state<[number, number]>([0, 0]);

  const id = $derived(Number(app.detail.replace(/^s/, "")));
  const found = createQuery(() => ({
    ...streamOf(game_id, id),
    enabled: !!id,
    placeholderData: keepPreviousData,
  }));
  const stream = $derived(found.data);
  const near = createQuery(() => {
    const query = { ...asked(app.query), stream_id: id };
    return {
      queryKey: ofGame(game_id, "streams", "beside", query),
      queryFn: () =>
        got(api.GET("/api/games/{game_id}/neighbours", { params: { path: { game_id }, query } })),
      enabled: !!id,
      placeholderData: keepPreviousData,
    };
  });
  const beside = $derived(near.data);
  const track = $derived(stream ? itemOf(stream).original! : null);
  const loop = $derived(player.tried ?? stream?.loop ?? null);
  const step = $derived(stream?.block_frames ?? 1);

  // Another stream is here: it is shown whole, and heard if the one before was.
  let shown = 0;
  $effect(() => {
    if (!stream) return;
    const here = stream;
    untrack(() => {
      if (here.id === shown) return player.load(itemOf(here), player.side);
      shown = here.id;
      const playing = player.playing && player.item?.place !== here.place;
      view = [0, Math.max(1, here.frames)];
      typed = [here.loop?.[0] ?? 0, here.loop?.[1] ?? here.frames];
      player.load(itemOf(here));
      if (playing) void player.start(0);
    });
  });
  $effect(() => {
    const known = !near.isPlaceholderData && !!beside;
    if (known && waiting) untrack(() => move(waiting as -1 | 1));
  });

  async function give(what: Said) {
    if (!stream) return;
    if (await app.attempted(say(game_id, stream.id, what)))
      void cache.invalidateQueries({ queryKey: pagesOf(game_id) });
  }

  /** To the stream before or behind; a key that is pressed before these are known is not lost. */
  function move(by: -1 | 1) {
    waiting = near.isPlaceholderData || !beside ? by : 0;
    if (waiting) return;
    const neighbour = by < 0 ? beside?.previous : beside?.next;
    if (neighbour) app.go("stream", `s${neighbour}`);
  }

  function tryPoints() {
    if (!stream) return;
    const start = Math.max(0, Math.min(Math.round(typed[0]), stream.frames - 1));
    const end = Math.max(start + 1, Math.min(Math.round(typed[1]), stream.frames));
    typed = [start, end];
    const own = stream.loop;
    player.tryLoop(own && own[0] === start && own[1] === end ? null : [start, end]);
  }

  function show(what: "whole" | "loop" | "seam") {
    if (!stream) return;
    if (what === "whole" || !loop) view = [0, stream.frames];
    else if (what === "loop") {
      const pad = (loop[1]! - loop[0]!) * 0.03;
      view = [Math.max(0, loop[0]! - pad), Math.min(stream.frames, loop[1]! + pad)];
    } else {
      const reach = stream.rate * 0.02;
      view = [Math.max(0, loop[1]! - reach), Math.min(stream.frames, loop[1]! + reach)];
    }
  }

  function onkeydown(e: KeyboardEvent) {
    const target = e.target as HTMLElement;
    if (target.closest("input, textarea, select") || e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.key === "ArrowUp" || e.key === "PageUp") move(-1);
    else if (e.key === "ArrowDown" || e.key === "PageDown") move(1);
    else if (e.key === "Escape") app.go("locate", String(id));
    else if (e.key === "Enter" && !target.closest("button, a, summary")) app.go("swap", `s${id}`);
    else return;
    e.preventDefault();
  }

  async function copy(text: string) {
    await navigator.clipboard.writeText(text).catch(() => {});
    app.say(`Copied: ${text}`);
  }
</script>

<svelte:window {onkeydown} />

{#if stream && track}
  <div class="flex h-full max-lg:block max-lg:overflow-auto">
    <section
      class="flex h-full min-w-0 grow flex-col gap-3 overflow-auto px-4 pt-3 pb-4 max-lg:h-auto"
      aria-label="Stream"
    >
      <div class="flex items-center gap-2">
        <a class="btn btn-sm" href="#/{game_id}/locate/{stream.id}">List</a>
        <div class="join">
          <button
            class="btn btn-sm join-item btn-square"
            aria-label="The stream before"
            title="↑"
            disabled={!beside?.previous}
            onclick={() => move(-1)}><ChevronLeft size={15} /></button
          >
          <button
            class="btn btn-sm join-item btn-square"
            aria-label="The next stream"
            title="↓"
            disabled={!beside?.next}
            onclick={() => move(1)}><ChevronRight size={15} /></button
          >
        </div>
        {#key stream.id}
          <input
            class="input input-ghost h-9 min-w-0 grow px-2 text-lg font-bold"
            aria-label="Given name"
            placeholder="Give it a name"
            maxlength="200"
            value={stream.name}
            onchange={(e) => give({ name: e.currentTarget.value })}
          />
        {/key}
        <button
          class="btn btn-sm btn-square text-primary"
          aria-pressed={stream.marked}
          aria-label={stream.marked ? "Take the mark away" : "Mark this stream"}
          onclick={() => give({ marked: !stream!.marked })}>{stream.marked ? "◆" : "◇"}</button
        >
        <span class="num shrink-0 text-quiet">
          {beside && beside.place >= 0 ? `${spaced(beside.place + 1)} of ${spaced(beside.total)}` : ""}
        </span>
      </div>
      <h1 class="num -mt-2 truncate text-quiet" title={stream.place}>{stream.place}</h1>
      <WaveView bind:this={drawing} {track} blockFrames={step} {mixed} bind:view edges={loop} />
      <div class="flex flex-wrap items-center gap-x-5 gap-y-2">
        <div class="join" role="group" aria-label="What is shown">
          <button class="btn btn-sm join-item" onclick={() => show("whole")}>Whole</button>
          <button class="btn btn-sm join-item" disabled={!loop} onclick={() => show("loop")}>Loop</button>
          <button class="btn btn-sm join-item" disabled={!loop} onclick={() => show("seam")}
            >Loop's end</button
          >
          <button class="btn btn-sm join-item" aria-label="Closer" onclick={() => drawing?.zoom(0.5)}
            >+</button
          >
          <button class="btn btn-sm join-item" aria-label="Wider" onclick={() => drawing?.zoom(2)}>−</button>
        </div>
        <div class="join" role="group" aria-label="How it is played">
          <button
            class="btn btn-sm join-item"
            onclick={() => {
              player.looping = false;
              void player.start(0);
            }}>Play once</button
          >
          <button
            class="btn btn-sm join-item"
            disabled={!loop}
            onclick={() => {
              player.looping = true;
              void player.start(loop![0]!);
            }}>Play the loop</button
          >
          <button class="btn btn-sm join-item" disabled={!loop} onclick={() => player.seam()}
            >Across the seam <kbd class="kbd kbd-sm">S</kbd></button
          >
        </div>
        {#if stream.channels > 1}
          <div class="join" role="group" aria-label="Channels">
            <button class="btn btn-sm join-item" aria-pressed={mixed} onclick={() => (mixed = !mixed)}
              >{mixed ? "Drawn as one" : "Drawn one by one"}</button
            >
            {#each { length: Math.min(8, stream.channels) } as _, c (c)}
              <button
                class="btn btn-sm join-item {player.solo === c ? 'border-primary! font-semibold' : ''}"
                aria-pressed={player.solo === c}
                aria-label="Hear channel {c + 1} alone"
                onclick={() => player.hear(player.solo === c ? -1 : c)}>{c + 1}</button
              >
            {/each}
          </div>
        {/if}
      </div>
      <form
        class="flex flex-wrap items-end gap-x-4 gap-y-2"
        aria-label="Loop"
        onsubmit={(e) => {
          e.preventDefault();
          tryPoints();
        }}
      >
        {#each ["Loop start, frame", "Loop end, frame"] as label, i (label)}
          <label class="block"
            ><span class="text-quiet">{label}</span>
            <input
              class="input input-sm num mt-0.5 w-36"
              type="number"
              min="0"
              max={stream.frames}
              step="1"
              bind:value={typed[i]}
              onchange={tryPoints}
            />
            <span class="num ml-1 text-quiet">{clock(typed[i]! / stream.rate)}</span></label
          >
        {/each}
        <p class="pb-1.5 text-quiet">
          {#if player.tried}
            {spaced(player.tried[1] - player.tried[0])} frames, tried out here only{step > 1 &&
            player.tried[0] % step
              ? `; the start is ${spaced(player.tried[0] % step)} frames past a block edge`
              : ""}
          {:else if stream.loop}
            {spaced(stream.loop[1]! - stream.loop[0]!)} frames, as the bank says
          {:else}the bank plays it once{/if}
        </p>
        {#if player.tried}
          <button
            type="button"
            class="btn btn-sm"
            onclick={() => {
              player.tryLoop(null);
              typed = [stream!.loop?.[0] ?? 0, stream!.loop?.[1] ?? stream!.frames];
            }}>Back to the bank's</button
          >
        {/if}
        <button type="button" class="btn btn-sm" onclick={() => copy(`${typed[0]} ${typed[1]}`)}>Copy</button>
      </form>
    </section>
    <FiguresPanel {stream} {give} />
  </div>
{:else if !found.error}
  <p class="p-8 text-quiet">Loading …</p>
{/if}
