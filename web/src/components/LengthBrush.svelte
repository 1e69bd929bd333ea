<script lang="ts">
  import type { Lengths } from "../lib/api";
  import { clock } from "../lib/format";

  /** All lengths on a logarithmic axis; a dragged range filters the list. */
  let { lengths, range = $bindable() }: { lengths: Lengths; range: [number | null, number | null] } =
    $props();

  const WIDTH = 340;
  const HEIGHT = 46;
  const span = $derived(Math.log(lengths.to_seconds / lengths.from_seconds));
  const most = $derived(Math.max(1, ...lengths.counts));
  const bar = $derived(WIDTH / lengths.counts.length);
  const x = (seconds: number) => (Math.log(seconds / lengths.from_seconds) / span) * WIDTH;
  const left = $derived(range[0] === null ? 0 : x(range[0]));
  const right = $derived(range[1] === null ? WIDTH : x(range[1]));
  const whole = $derived(range[0] === null && range[1] === null);
  const ticks = $derived(
    [0.1, 1, 5, 20, 60, 300, 1800, 10_800, 43_200].filter((s) => s < lengths.to_seconds / 1.5),
  );
  let from = 0;
  let dragging = $state(false);

  function edge(px: number): number {
    const bin = Math.min(lengths.counts.length, Math.max(0, Math.round(px / bar)));
    return lengths.from_seconds * Math.exp((bin / lengths.counts.length) * span);
  }
  function place(e: PointerEvent & { currentTarget: SVGSVGElement }): number {
    const box = e.currentTarget.getBoundingClientRect();
    return ((e.clientX - box.left) / box.width) * WIDTH;
  }
  function down(e: PointerEvent & { currentTarget: SVGSVGElement }) {
    from = place(e);
    dragging = true;
    e.currentTarget.setPointerCapture(e.pointerId);
  }
  function move(e: PointerEvent & { currentTarget: SVGSVGElement }) {
    if (!dragging) return;
    const to = place(e);
    const [a, b] = from < to ? [from, to] : [to, from];
    range =
      b - a < bar / 2 ? [null, null] : [a < bar / 2 ? null : edge(a), b > WIDTH - bar / 2 ? null : edge(b)];
  }
  function word(seconds: number): string {
    return seconds < 60 ? `${Number(seconds.toPrecision(2))} s` : clock(seconds, 0);
  }
  function typed(which: 0 | 1, text: string) {
    const value = text.trim() === "" ? null : Number(text);
    if (value !== null && !(value >= 0)) return;
    range = which ? [range[0], value] : [value || null, range[1]];
  }
</script>

<fieldset class="max-md:hidden">
  <legend class="flex w-full items-baseline gap-2">
    <span class="text-quiet">Length</span>
    <span class="font-semibold"
      >{whole
        ? "any"
        : `${range[0] === null ? "up" : word(range[0])} to ${range[1] === null ? "the longest" : word(range[1])}`}</span
    >
    {#if !whole}
      <button class="text-primary underline" onclick={() => (range = [null, null])}>any length</button>
    {/if}
  </legend>
  <svg
    width={WIDTH}
    height={HEIGHT + 14}
    class="mt-1 cursor-crosshair touch-none select-none"
    role="presentation"
    onpointerdown={down}
    onpointermove={move}
    onpointerup={() => (dragging = false)}
    onpointercancel={() => (dragging = false)}
  >
    {#each lengths.counts as n, i (i)}
      {@const inside = i * bar >= left - 1 && (i + 1) * bar <= right + 1}
      <rect
        x={i * bar + 0.5}
        width={bar - 1}
        y={HEIGHT - (n / most) * (HEIGHT - 4) - (n ? 1 : 0)}
        height={(n / most) * (HEIGHT - 4) + (n ? 1 : 0)}
        fill={inside && !whole ? "var(--color-primary)" : "var(--edge)"}
      />
    {/each}
    <path d="M0 {HEIGHT}H{WIDTH}" stroke="var(--line)" />
    {#if !whole}
      <rect x={left} y="0" width={right - left} height={HEIGHT} fill="var(--loop-wash)" />
      <path
        d="M{left + 1} 0V{HEIGHT}M{right - 1} 0V{HEIGHT}"
        stroke="var(--color-primary)"
        stroke-width="2"
      />
    {/if}
    {#each ticks as t (t)}
      <text
        x={Math.max(0, x(t))}
        y={HEIGHT + 12}
        font-size="10.5"
        fill="var(--quiet)"
        text-anchor={t === 0.1 ? "start" : "middle"}
        >{t < 60 ? `${t} s` : t < 3600 ? `${t / 60} min` : `${t / 3600} h`}</text
      >
    {/each}
  </svg>
  <div class="sr-only">
    <label
      >Shortest, in seconds <input
        value={range[0] ?? ""}
        onchange={(e) => typed(0, e.currentTarget.value)}
      /></label
    >
    <label
      >Longest, in seconds <input
        value={range[1] ?? ""}
        onchange={(e) => typed(1, e.currentTarget.value)}
      /></label
    >
  </div>
</fieldset>
