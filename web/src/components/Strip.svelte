<script lang="ts">
  import Pause from "@lucide/svelte/icons/pause";
  import Play from "@lucide/svelte/icons/play";
  import Repeat from "@lucide/svelte/icons/repeat";
  import { peaks } from "../lib/api";
  import { clock } from "../lib/format";
  import { player } from "../lib/player.svelte";

  const BINS = 190;
  let width = $state(600);
  let bars = $state<number[]>([]);
  const track = $derived(player.track);
  const length = $derived(track ? track.frames / track.rate : 0);
  const share = $derived(track?.frames ? player.frame / track.frames : 0);
  const top = $derived(Math.max(32, ...bars));

  $effect(() => {
    const audio = track?.audio;
    bars = [];
    if (audio)
      peaks(audio, BINS).then(
        (p) => track?.audio === audio && (bars = p),
        () => {},
      );
  });

  function seekTo(e: MouseEvent & { currentTarget: HTMLElement }) {
    if (!track) return;
    const box = e.currentTarget.getBoundingClientRect();
    player.seek(((e.clientX - box.left) / box.width) * track.frames);
  }

  function onkeydown(e: KeyboardEvent) {
    if (!track) return;
    const step = (e.shiftKey ? 10 : 1) * track.rate;
    if (e.key === "ArrowLeft") player.seek(player.frame - step);
    else if (e.key === "ArrowRight") player.seek(player.frame + step);
    else if (e.key === "Home") player.seek(0);
    else return;
    e.preventDefault();
  }
</script>

<footer
  aria-label="Listening strip"
  class="flex shrink-0 items-center gap-5 border-t border-line bg-base-200 px-4 py-2 max-md:flex-wrap max-md:gap-2"
  data-playing={player.playing}
  data-side={player.side}
  data-audio={track?.audio ?? ""}
  data-frame={player.frame}
>
  <button
    class="grid h-[42px] w-[42px] shrink-0 place-items-center rounded-full bg-base-content text-base-100 disabled:opacity-40"
    aria-label={player.playing ? "Pause" : "Play"}
    title="Space"
    disabled={!track}
    onclick={() => player.toggle()}
  >
    {#if player.playing}<Pause size={18} fill="currentColor" />{:else}<Play
        size={18}
        fill="currentColor"
        class="ml-0.5"
      />{/if}
  </button>
  {#if player.item && track}
    <div class="w-44 shrink-0 max-md:min-w-0 max-md:flex-1 max-md:basis-44">
      <p class="truncate font-semibold">{player.item.title}</p>
      <p class="num truncate text-quiet" title={player.item.place}>
        {player.item.place.split(" › ")[0]}
      </p>
    </div>
    <div
      class="relative h-[50px] min-w-40 grow cursor-pointer max-md:order-last max-md:w-full"
      role="slider"
      tabindex="0"
      aria-label="Position"
      aria-valuemin="0"
      aria-valuemax={Math.round(length)}
      aria-valuenow={Math.round(player.seconds)}
      aria-valuetext="{clock(player.seconds, 1)} of {clock(length, 1)}"
      bind:clientWidth={width}
      onclick={seekTo}
      {onkeydown}
    >
      <svg {width} height="50" class="absolute inset-0" aria-hidden="true">
        {#if player.loop}
          {@const a = (player.loop[0]! / track.frames) * width}
          {@const b = (player.loop[1]! / track.frames) * width}
          <rect x={a} y="0" width={Math.max(1, b - a)} height="50" fill="var(--loop-wash)" />
          <path
            d="M{a + 6} 1.5H{a + 1.5}V48.5H{a + 6}M{b - 6} 1.5H{b - 1.5}V48.5H{b - 6}"
            fill="none"
            stroke="var(--color-primary)"
            stroke-width="2.5"
          />
        {/if}
        <path
          d={bars
            .map(
              (v, i) => `M${(((i + 0.5) * width) / BINS).toFixed(1)} 46V${(45 - (v / top) * 42).toFixed(1)}`,
            )
            .join("")}
          stroke={player.side === "new" ? "var(--bars-new)" : "var(--bars-old)"}
          stroke-width={Math.max(1, (width / BINS) * 0.6)}
        />
        <path d="M{share * width} 0V50" stroke="var(--color-base-content)" stroke-width="1.5" />
      </svg>
    </div>
    <div class="num w-[92px] shrink-0 whitespace-nowrap">
      <p>{clock(player.seconds)}</p>
      <p class="text-quiet">of {clock(length)}</p>
    </div>
    <div class="join shrink-0" role="group" aria-label="What is heard">
      <button
        class="btn btn-sm join-item"
        class:chosen={player.side === "original"}
        aria-pressed={player.side === "original"}
        title="O changes sides"
        disabled={!player.item.original}
        onclick={() => player.change("original")}>original</button
      >
      <button
        class="btn btn-sm join-item"
        class:chosen={player.side === "new"}
        aria-pressed={player.side === "new"}
        title="O changes sides"
        disabled={!player.item.fresh}
        onclick={() => player.change("new")}>new</button
      >
    </div>
    <div class="flex shrink-0 gap-2">
      <button
        class="btn btn-sm btn-square"
        class:chosen={player.looping}
        aria-label="Play the loop again and again"
        aria-pressed={player.looping}
        disabled={!player.loop}
        onclick={() => (player.looping = !player.looping)}><Repeat size={15} /></button
      >
      <button class="btn btn-sm" disabled={!player.loop} onclick={() => player.seam()}>
        Hear seam <kbd class="kbd kbd-sm">S</kbd>
      </button>
    </div>
  {:else}
    <p class="py-3 text-quiet">Choose a stream in Locate to hear it here.</p>
  {/if}
  {#if player.problem}
    <p role="alert" class="w-full text-error">{player.problem.what} {player.problem.next}</p>
  {/if}
</footer>

<style>
  .chosen {
    background: var(--color-base-100) !important;
    border-color: var(--color-primary) !important;
    font-weight: 650;
  }
</style>
