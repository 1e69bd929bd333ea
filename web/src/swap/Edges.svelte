<script lang="ts">
  import type { Swap, Treatment } from "../lib/api";
  import { clock } from "../lib/format";
  import { Ahead } from "./ahead.svelte";

  /** Which part of a file is used and where it is faded, drawn over its lane: each edge and each fade can be dragged, or moved
   * by arrow keys. */
  let {
    swap,
    x,
    at,
    top,
    height,
    width,
    change,
  }: {
    swap: Swap;
    /** Seconds to pixels, and the seconds below a pointer. */
    x: (seconds: number) => number;
    at: (e: MouseEvent, svg: SVGElement) => number;
    top: number;
    height: number;
    width: number;
    change: (steps: Treatment) => Promise<void>;
  } = $props();

  type Kind = "start" | "in" | "out" | "end";
  const NAMES: Record<Kind, string> = {
    start: "Beginning of the part",
    in: "Fade in",
    out: "Fade out",
    end: "End of the part",
  };
  const LEAST = 0.001;
  const info = $derived(swap.info!);
  const all = $derived(info.frames / info.rate);
  let drag = $state<{ kind: Kind; seconds: number } | null>(null);

  const ahead = new Ahead<Treatment>();
  const now = $derived.by((): Record<Kind, number> => {
    const how = { ...swap.treatment, ...(ahead.value as Partial<typeof swap.treatment> | null) };
    const start = how.trim_start / info.rate;
    const end = how.trim_end === null ? all : how.trim_end / info.rate;
    return { start, in: Math.min(end, start + how.fade_in), out: Math.max(start, end - how.fade_out), end };
  });
  const shown = $derived.by(() => {
    if (!drag) return now;
    const next = { ...now, [drag.kind]: drag.seconds };
    // A fade goes along with its edge.
    if (drag.kind === "start") next.in = drag.seconds + (now.in - now.start);
    if (drag.kind === "end") next.out = drag.seconds - (now.end - now.out);
    return next;
  });

  function within(kind: Kind, seconds: number): number {
    const low = kind === "start" ? 0 : kind === "end" ? now.start + LEAST : now.start;
    const high = kind === "end" ? all : kind === "start" ? now.end - LEAST : now.end;
    return Math.max(low, Math.min(high, seconds));
  }

  function set(kind: Kind, seconds: number) {
    const to = within(kind, seconds);
    if (to === now[kind]) return;
    const frame = Math.min(info.frames, Math.round(to * info.rate));
    const ms = (s: number) => Math.round(s * 1000) / 1000;
    const steps: Treatment =
      kind === "start"
        ? { trim_start: frame }
        : kind === "end"
          ? { trim_end: frame === info.frames ? null : frame }
          : kind === "in"
            ? { fade_in: ms(to - now.start) }
            : { fade_out: ms(now.end - to) };
    void ahead.to({ ...ahead.value, ...steps }, () => change(steps));
  }

  function grab(kind: Kind, e: PointerEvent) {
    e.stopPropagation();
    (e.currentTarget as SVGElement).setPointerCapture(e.pointerId);
    drag = { kind, seconds: now[kind] };
  }
  function pull(e: PointerEvent) {
    const svg = (e.currentTarget as SVGElement).ownerSVGElement;
    if (drag && svg) drag.seconds = within(drag.kind, at(e, svg));
  }
  function release() {
    const done = drag;
    drag = null;
    if (done) set(done.kind, done.seconds);
  }
  function nudge(kind: Kind, e: KeyboardEvent) {
    if (e.key !== "ArrowLeft" && e.key !== "ArrowRight") return;
    e.preventDefault();
    set(kind, now[kind] + (e.key === "ArrowLeft" ? -1 : 1) * (e.shiftKey ? 0.1 : 0.01));
  }

  const bottom = $derived(top + height);
  const outside = $derived(
    (
      [
        [0, x(shown.start)],
        [x(shown.end), width],
      ] as const
    ).filter(([a, b]) => b > a),
  );
</script>

{#each outside as [from, to] (from)}
  <rect
    x={from}
    y={top}
    width={to - from}
    {height}
    fill="var(--color-base-200)"
    opacity="0.72"
    class="idle"
  />
{/each}
<path
  d="M{x(shown.start)} {bottom}L{x(shown.in)} {top}M{x(shown.out)} {top}L{x(shown.end)} {bottom}"
  stroke="var(--color-base-content)"
  stroke-width="1.5"
  fill="none"
  class="idle"
/>
{#each ["start", "in", "out", "end"] as const as kind (kind)}
  {@const px = x(shown[kind])}
  {@const edge = kind === "start" || kind === "end"}
  {#if edge}
    <path
      d="M{px} {top}V{bottom}M{px} {bottom}h{kind === 'start' ? 12 : -12}v-9z"
      stroke="var(--color-base-content)"
      fill="var(--color-base-content)"
      stroke-width="1.5"
      class="idle"
    />
  {:else}
    <circle cx={px} cy={top + 6} r="5" fill="var(--color-base-content)" class="idle" />
  {/if}
  <rect
    x={edge ? px - (kind === "start" ? 6 : 14) : px - 9}
    y={edge ? bottom - height * 0.6 : top}
    width={edge ? 20 : 18}
    height={edge ? height * 0.6 : 20}
    fill="transparent"
    class="cursor-ew-resize"
    role="slider"
    tabindex="0"
    aria-label={NAMES[kind]}
    aria-valuemin="0"
    aria-valuemax={Math.round(all * 1000)}
    aria-valuenow={Math.round(shown[kind] * 1000)}
    aria-valuetext={edge
      ? clock(shown[kind])
      : `${Math.abs(shown[kind] - shown[kind === "in" ? "start" : "end"]).toFixed(2)} s`}
    onpointerdown={(e) => grab(kind, e)}
    onpointermove={pull}
    onpointerup={release}
    onpointercancel={() => (drag = null)}
    onclick={(e) => e.stopPropagation()}
    onkeydown={(e) => nudge(kind, e)}
  />
{/each}
{#if drag}
  <text
    x={Math.min(width - 70, x(drag.seconds) + 14)}
    y={bottom - 24}
    font-size="12"
    fill="var(--color-base-content)"
    class="num idle">{clock(drag.seconds)}</text
  >
{/if}

<style>
  .idle {
    pointer-events: none;
  }
</style>
