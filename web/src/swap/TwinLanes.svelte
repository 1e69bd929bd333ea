<script lang="ts">
  import type { Swap, Treatment } from "../lib/api";
  import { clock, spaced } from "../lib/format";
  import { player, type Track } from "../lib/player.svelte";
  import Edges from "./Edges.svelte";
  import {
    barsOf,
    barsOfSeam,
    blockEdges,
    bracket,
    drawn,
    LANE,
    SEAM,
    ticksBetween,
    type Bar,
  } from "./lanes";
  import { inTurn } from "./swaps";

  /**
   * Original and replacement on one time axis: the original stands up from it, the replacement
   * hangs down from it. Square brackets mark the loops; the codec's blocks are ticked between. Of a file as it is, the part
   * that is used and its fades are drawn, and can be moved.
   */
  let {
    original,
    fresh,
    freshLabel,
    blockFrames,
    view,
    moveLoop,
    edges,
  }: {
    original: Track;
    fresh: Track;
    freshLabel: string;
    blockFrames: number;
    view: "whole" | "loop" | "seam";
    moveLoop: (start: number, end: number) => Promise<void>;
    /** Whose file the lower lane is, and changing it. */
    edges?: { swap: Swap; change: (steps: Treatment) => Promise<void> };
  } = $props();

  const AXIS = 12;
  const TOP = 16;
  const HEIGHT = TOP + LANE * 2 + AXIS + 4;
  let width = $state(900);
  let drag = $state<{ edge: 0 | 1; seconds: number } | null>(null); // not frames: the rate may change under a drag

  const loop = $derived.by(() => {
    if (!fresh.loop || !drag) return fresh.loop;
    const [start, end] = fresh.loop as [number, number];
    const frame = Math.min(fresh.frames, Math.round(drag.seconds * fresh.rate));
    return drag.edge ? [start, Math.max(start + 1, frame)] : [Math.min(frame, end - 1), end];
  });
  const longest = $derived(Math.max(original.frames / original.rate, fresh.frames / fresh.rate));

  /** Seconds at both edges of the drawing. */
  const span = $derived.by((): [number, number] => {
    const l = fresh.loop;
    if (view === "loop" && l) {
      const pad = ((l[1]! - l[0]!) / fresh.rate) * 0.04;
      return [Math.max(0, l[0]! / fresh.rate - pad), l[1]! / fresh.rate + pad];
    }
    if (view === "seam") return [-SEAM, SEAM];
    return [0, longest];
  });
  const x = $derived((seconds: number) => ((seconds - span[0]) / (span[1] - span[0])) * width);

  let above = $state.raw<Bar[]>([]);
  let below = $state.raw<Bar[]>([]);
  const bars = (track: Track, seam: boolean) => (seam ? barsOfSeam(track) : barsOf(track));
  $effect(() => {
    const [track, seam] = [original, view === "seam"];
    bars(track, seam).then(
      (b) => track === original && seam === (view === "seam") && (above = b),
      () => (above = []),
    );
  });
  $effect(() => {
    const [track, seam] = [fresh, view === "seam"];
    bars(track, seam).then(
      (b) => track === fresh && seam === (view === "seam") && (below = b),
      () => (below = []),
    );
  });

  const scale = $derived(Math.max(40, ...above.map((b) => b.v), ...below.map((b) => b.v)));

  const ticks = $derived(ticksBetween(span));
  /** Digits behind the point that tell two ticks apart. */
  const fine = $derived(ticks.length < 2 || ticks[1]! - ticks[0]! >= 1 ? 0 : 2);
  const grid = $derived(
    blockFrames < 2 || view === "seam"
      ? { every: 0, at: [] }
      : blockEdges(span, blockFrames / fresh.rate, width),
  );

  const heard = $derived.by(() => {
    const t = player.track;
    if (!t || (t.audio !== original.audio && t.audio !== fresh.audio)) return null;
    const now = player.seconds;
    if (view !== "seam") return now;
    if (!t.loop) return null;
    const toEnd = now - t.loop[1]! / t.rate;
    return toEnd >= -SEAM && toEnd <= 0 ? toEnd : now - t.loop[0]! / t.rate;
  });

  function secondsAt(e: MouseEvent, svg: SVGElement): number {
    const box = svg.getBoundingClientRect();
    return Math.max(0, span[0] + ((e.clientX - box.left) / box.width) * (span[1] - span[0]));
  }
  function grab(edge: 0 | 1, e: PointerEvent) {
    if (!fresh.loop) return;
    e.stopPropagation();
    (e.currentTarget as SVGElement).setPointerCapture(e.pointerId);
    drag = { edge, seconds: fresh.loop[edge]! / fresh.rate };
  }
  function pull(e: PointerEvent) {
    const svg = (e.currentTarget as SVGElement).ownerSVGElement;
    if (drag && svg) drag.seconds = secondsAt(e, svg);
  }
  function release() {
    const moved = loop;
    const was = fresh.loop;
    drag = null;
    if (moved && was && (moved[0] !== was[0] || moved[1] !== was[1])) void moveLoop(moved[0]!, moved[1]!);
  }
  const turn = inTurn();
  function nudge(edge: 0 | 1, e: KeyboardEvent) {
    if (!fresh.loop || !["ArrowLeft", "ArrowRight"].includes(e.key)) return;
    e.preventDefault();
    const [way, far] = [e.key === "ArrowLeft" ? -1 : 1, e.shiftKey];
    void turn(() => {
      if (!fresh.loop) return;
      const step = way * (far ? Math.round(fresh.rate / 10) : 1);
      const next = [...fresh.loop] as [number, number];
      next[edge] = Math.max(0, Math.min(fresh.frames, next[edge]! + step));
      return next[0] < next[1] ? moveLoop(...next) : undefined;
    });
  }
  function seek(e: MouseEvent & { currentTarget: SVGSVGElement }) {
    if (view === "seam" || !player.track) return;
    player.seek(secondsAt(e, e.currentTarget) * player.track.rate);
  }
</script>

<div class="overflow-hidden rounded-box bg-base-200 px-2" bind:clientWidth={width}>
  <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_noninteractive_element_interactions -->
  <svg
    width="100%"
    height={HEIGHT}
    viewBox="0 0 {width} {HEIGHT}"
    preserveAspectRatio="none"
    role="group"
    aria-label="Original above, replacement below"
    class="block touch-none select-none"
    onclick={seek}
  >
    {#each ticks as t (t)}
      <path d="M{x(t)} 0V{HEIGHT}" stroke="var(--line)" stroke-width="1" />
      <text x={x(t) + 4} y="11" font-size="10.5" fill="var(--quiet)" class="num"
        >{view === "seam" ? `${t > 0 ? "+" : ""}${t} s` : clock(t, fine)}</text
      >
    {/each}
    {#if view !== "seam"}
      {#if original.loop}
        <rect
          x={x(original.loop[0]! / original.rate)}
          y={TOP}
          width={Math.max(1, x(original.loop[1]! / original.rate) - x(original.loop[0]! / original.rate))}
          height={LANE}
          fill="var(--loop-wash)"
        />
      {/if}
      {#if loop}
        <rect
          x={x(loop[0]! / fresh.rate)}
          y={TOP + LANE + AXIS}
          width={Math.max(1, x(loop[1]! / fresh.rate) - x(loop[0]! / fresh.rate))}
          height={LANE}
          fill="var(--loop-wash)"
        />
      {/if}
    {/if}
    <path d={drawn(above, x, width, scale, TOP + LANE, -1)} stroke="var(--bars-old)" stroke-width="1.8" />
    <path
      d={drawn(below, x, width, scale, TOP + LANE + AXIS, 1)}
      stroke="var(--bars-new)"
      stroke-width="1.8"
    />
    <path
      d="M0 {TOP + LANE + 0.5}H{width}M0 {TOP + LANE + AXIS + 0.5}H{width}"
      stroke="var(--line)"
      stroke-width="1"
    />
    {#each grid.at as t (t)}
      <path d="M{x(t)} {TOP + LANE + 2}V{TOP + LANE + AXIS - 2}" stroke="var(--edge)" stroke-width="1" />
    {/each}
    {#if view === "seam"}
      <path d="M{x(0)} {TOP}V{HEIGHT}" stroke="var(--color-primary)" stroke-width="2.5" />
    {:else}
      {#if original.loop}
        <path
          d={bracket(x(original.loop[0]! / original.rate), TOP + 1, TOP + LANE, 1) +
            bracket(x(original.loop[1]! / original.rate), TOP + 1, TOP + LANE, -1)}
          fill="none"
          stroke="var(--bars-old)"
          stroke-width="2.5"
        />
      {/if}
      {#if loop}
        {#each [0, 1] as const as edge (edge)}
          {@const px = x(loop[edge]! / fresh.rate)}
          <path
            d={bracket(px, TOP + LANE + AXIS, HEIGHT - 5, edge ? -1 : 1)}
            fill="none"
            stroke="var(--color-primary)"
            stroke-width="3"
          />
          <rect
            x={px - 8}
            y={TOP + LANE + AXIS}
            width="16"
            height={LANE}
            fill="transparent"
            class="cursor-ew-resize"
            role="slider"
            tabindex="0"
            aria-label={edge ? "Loop end" : "Loop start"}
            aria-valuemin="0"
            aria-valuemax={fresh.frames}
            aria-valuenow={loop[edge]!}
            aria-valuetext="{spaced(loop[edge]!)} frames, {clock(loop[edge]! / fresh.rate)}"
            onpointerdown={(e) => grab(edge, e)}
            onpointermove={pull}
            onpointerup={release}
            onpointercancel={() => (drag = null)}
            onclick={(e) => e.stopPropagation()}
            onkeydown={(e) => nudge(edge, e)}
          />
        {/each}
      {/if}
    {/if}
    {#if edges}
      <Edges {...edges} {x} at={secondsAt} top={TOP + LANE + AXIS} height={LANE} {width} />
    {/if}
    {#if heard !== null}
      <path d="M{x(heard)} {TOP}V{HEIGHT}" stroke="var(--color-base-content)" stroke-width="1.5" />
    {/if}
    <text x="6" y={TOP + 14} font-size="11.5" fill="var(--quiet)" class="lane">original</text>
    <text x="6" y={HEIGHT - 10} font-size="11.5" fill="var(--quiet)" class="lane">{freshLabel}</text>
    {#if drag && loop}
      <text
        x={Math.min(width - 130, x(loop[drag.edge]! / fresh.rate) + 12)}
        y={HEIGHT - 26}
        font-size="12"
        fill="var(--color-base-content)"
        class="num lane">{spaced(loop[drag.edge]!)} · {clock(loop[drag.edge]! / fresh.rate)}</text
      >
    {/if}
  </svg>
</div>
{#if grid.every > 1}
  <p class="mt-1 text-[0.85rem] text-quiet">
    Every tick on the axis is {spaced(grid.every)} blocks of {spaced(blockFrames)} frames.
  </p>
{:else if grid.every === 1}
  <p class="mt-1 text-[0.85rem] text-quiet">
    Every tick on the axis is one block of {spaced(blockFrames)} frames.
  </p>
{/if}

<style>
  /* Only the brackets' handles are for the pointer: a line or a word that lies over one never takes a drag. */
  path,
  text {
    pointer-events: none;
  }
  .lane {
    paint-order: stroke;
    stroke: var(--color-base-200);
    stroke-width: 6px;
    stroke-linejoin: round;
  }
</style>
