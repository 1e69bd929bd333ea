<script lang="ts">
  import { api, got, type Wave } from "../lib/api";
  import { clock, spaced } from "../lib/format";
  import { player, type Track } from "../lib/player.svelte";

  /** A sound along its time: every channel or all mixed, and below the levels of its frequencies. */
  let {
    track,
    blockFrames,
    mixed,
    view = $bindable(),
    edges,
  }: {
    track: Track;
    blockFrames: number;
    mixed: boolean;
    view: [number, number];
    edges: number[] | null;
  } = $props();

  const WAVES = 250;
  const AXIS = 20;
  const LEVELS = 190;
  const LEAST = 64; // frames that are shown at least
  let width = $state(900);
  let waves: HTMLCanvasElement;
  let levels: HTMLCanvasElement;
  let wave = $state<(Wave & { start: number; frames: number }) | null>(null);
  let problem = $state("");
  let choosing = $state<[number, number] | null>(null);

  const start = $derived(Math.max(0, Math.floor(view[0])));
  const frames = $derived(Math.max(1, Math.min(track.frames - start, Math.ceil(view[1] - view[0]))));
  /** Quiet sounds are drawn larger, and it is said by how much. */
  const larger = $derived.by(() => {
    const most = Math.max(
      0,
      ...(wave?.channels ?? []).map((c) => c.reduce((m, v) => Math.max(m, Math.abs(v)), 0)),
    );
    return most ? Math.max(1, Math.min(40, 32768 / most)) : 1;
  });
  const x = $derived((frame: number) => ((frame - view[0]) / (view[1] - view[0])) * width);

  // Drawn at once from what is there, and again when the part that is shown has come.
  $effect(() => {
    const [address, from, count, bins] = [track.audio, start, frames, Math.max(100, Math.round(width))];
    let timer = 0;
    let gone = false;
    const ask = async () => {
      try {
        const query = { start: from, frames: count, bins };
        const found = await got(
          api.GET("/api/audio/{address}/wave", { params: { path: { address }, query } }),
        );
        if (gone) return;
        wave = { ...found, start: from, frames: count };
        problem = "";
        if (found.rough) timer = window.setTimeout(ask, 700);
      } catch (error) {
        if (!gone) problem = error instanceof Error ? error.message : String(error);
      }
    };
    timer = window.setTimeout(ask, 40);
    return () => {
      gone = true;
      clearTimeout(timer);
    };
  });

  function color(name: string): string {
    return getComputedStyle(waves).getPropertyValue(name).trim();
  }

  $effect(() => {
    const pen = waves.getContext("2d")!;
    const scale = devicePixelRatio || 1;
    waves.width = width * scale;
    waves.height = WAVES * scale;
    pen.scale(scale, scale);
    pen.clearRect(0, 0, width, WAVES);
    if (!wave) return;
    const lanes = mixed && wave.channels.length > 1 ? [together(wave.channels)] : wave.channels;
    const lane = WAVES / Math.max(1, lanes.length);
    pen.fillStyle = color("--bars-old");
    lanes.forEach((data, c) => {
      const middle = lane * (c + 0.5);
      const bins = data.length / 2;
      const step = (wave!.frames / bins / (view[1] - view[0])) * width;
      const from = x(wave!.start);
      if (bins >= wave!.frames) {
        // Single samples: a line through them.
        pen.strokeStyle = pen.fillStyle;
        pen.lineWidth = 1.5;
        pen.beginPath();
        for (let i = 0; i < bins; i++)
          pen.lineTo(from + (i + 0.5) * step, middle - ((data[2 * i]! * larger) / 32768) * (lane / 2 - 3));
        pen.stroke();
      }
      for (let i = 0; i < bins && bins < wave!.frames; i++) {
        const top = middle - ((data[2 * i + 1]! * larger) / 32768) * (lane / 2 - 3);
        const bottom = middle - ((data[2 * i]! * larger) / 32768) * (lane / 2 - 3);
        pen.fillRect(
          from + i * step,
          top,
          Math.max(step > 3 ? step - 1 : step, 0.7),
          Math.max(1, bottom - top),
        );
      }
      pen.globalAlpha = 0.35;
      pen.fillRect(0, middle, width, 1);
      pen.globalAlpha = 1;
    });
  });

  function together(channels: number[][]): number[] {
    return channels[0]!.map((_, i) =>
      i % 2 ? Math.max(...channels.map((c) => c[i]!)) : Math.min(...channels.map((c) => c[i]!)),
    );
  }

  // The spectrogram is asked for when the view has come to rest.
  $effect(() => {
    const [address, from, count] = [track.audio, start, frames];
    const columns = Math.min(800, Math.max(60, Math.round(width / 1.5)));
    let gone = false;
    const timer = setTimeout(async () => {
      const answer = await fetch(
        `/api/audio/${address}/spectrum?start=${from}&frames=${count}&columns=${columns}`,
      );
      if (!answer.ok || gone) return;
      const rows = Number(answer.headers.get("X-Rows"));
      const data = new Uint8Array(await answer.arrayBuffer());
      if (gone) return;
      levels.width = columns;
      levels.height = rows;
      const pen = levels.getContext("2d")!;
      const image = pen.createImageData(columns, rows);
      const [low, high] = [rgb(color("--color-base-100")), rgb(color("--color-primary"))];
      for (let c = 0; c < columns; c++)
        for (let r = 0; r < rows; r++) {
          const share = (data[c * rows + r]! / 255) ** 1.6;
          const at = ((rows - 1 - r) * columns + c) * 4;
          for (let k = 0; k < 3; k++) image.data[at + k] = low[k]! + (high[k]! - low[k]!) * share;
          image.data[at + 3] = 255;
        }
      pen.putImageData(image, 0, 0);
    }, 250);
    return () => {
      gone = true;
      clearTimeout(timer);
    };
  });

  function rgb(text: string): number[] {
    const probe = document.createElement("canvas").getContext("2d", { willReadFrequently: true })!;
    probe.fillStyle = text;
    probe.fillRect(0, 0, 1, 1);
    return [...probe.getImageData(0, 0, 1, 1).data];
  }

  const ticks = $derived.by(() => {
    const seconds = (view[1] - view[0]) / track.rate;
    const steps = [
      0.0005, 0.001, 0.005, 0.01, 0.05, 0.1, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600,
    ];
    const step = steps.find((s) => (s / seconds) * width > 84) ?? 7200;
    const digits = step < 0.001 ? 4 : step < 0.01 ? 3 : step < 1 ? 2 : 0;
    const out = [];
    for (let n = Math.ceil(view[0] / track.rate / step); n * step <= view[1] / track.rate; n++)
      out.push({ at: x(n * step * track.rate), text: clock(n * step, digits) });
    return out;
  });

  const blocks = $derived.by(() => {
    const apart = (blockFrames / (view[1] - view[0])) * width;
    if (blockFrames < 2 || apart < 5) return [];
    const out = [];
    for (let n = Math.ceil(view[0] / blockFrames); n * blockFrames <= view[1]; n++)
      out.push(x(n * blockFrames));
    return out;
  });

  export function zoom(by: number, around = (view[0] + view[1]) / 2): void {
    const size = Math.max(LEAST, Math.min(track.frames, (view[1] - view[0]) * by));
    const share = (around - view[0]) / (view[1] - view[0]);
    const from = Math.max(0, Math.min(track.frames - size, around - share * size));
    view = [from, from + size];
  }

  function frameAt(e: MouseEvent & { currentTarget: HTMLElement }): number {
    const box = e.currentTarget.getBoundingClientRect();
    return view[0] + ((e.clientX - box.left) / box.width) * (view[1] - view[0]);
  }

  function onwheel(e: WheelEvent & { currentTarget: HTMLElement }) {
    e.preventDefault();
    if (e.shiftKey || Math.abs(e.deltaX) > Math.abs(e.deltaY)) {
      const by = ((e.deltaX || e.deltaY) / width) * (view[1] - view[0]);
      const from = Math.max(0, Math.min(track.frames - (view[1] - view[0]), view[0] + by));
      view = [from, from + view[1] - view[0]];
    } else zoom(e.deltaY > 0 ? 1.25 : 0.8, frameAt(e));
  }

  function up() {
    if (!choosing) return;
    const [a, b] = [Math.min(...choosing), Math.max(...choosing)];
    choosing = null;
    if (((b - a) / (view[1] - view[0])) * width < 4) player.seek(a);
    else view = [Math.max(0, a), Math.min(track.frames, Math.max(b, a + LEAST))];
  }

  function onkeydown(e: KeyboardEvent) {
    const step = (view[1] - view[0]) / 20;
    if (e.key === "+" || e.key === "=") zoom(0.5, player.frame);
    else if (e.key === "-") zoom(2, player.frame);
    else if (e.key === "0") view = [0, track.frames];
    else if (e.key === "ArrowLeft") player.seek(player.frame - step);
    else if (e.key === "ArrowRight") player.seek(player.frame + step);
    else return;
    e.preventDefault();
  }
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
<div
  class="relative cursor-crosshair touch-none select-none border-y border-line"
  style="height: {WAVES + AXIS + LEVELS}px"
  role="application"
  aria-label="Waveform: click to listen from there, drag to see a part, plus and minus to zoom"
  tabindex="0"
  bind:clientWidth={width}
  {onwheel}
  {onkeydown}
  onpointerdown={(e) => {
    e.currentTarget.setPointerCapture(e.pointerId);
    choosing = [frameAt(e), frameAt(e)];
  }}
  onpointermove={(e) => choosing && (choosing = [choosing[0], frameAt(e)])}
  onpointerup={up}
  onpointercancel={() => (choosing = null)}
  data-rough={wave?.rough ?? true}
>
  <canvas bind:this={waves} class="absolute inset-x-0 top-0 w-full" style="height: {WAVES}px"></canvas>
  <canvas
    bind:this={levels}
    class="absolute inset-x-0 bottom-0 w-full"
    style="height: {LEVELS}px"
    aria-label="Spectrogram, low frequencies at the bottom"
  ></canvas>
  <svg {width} height={WAVES + AXIS + LEVELS} class="absolute inset-0" aria-hidden="true">
    {#each blocks as at, i (i)}<path d="M{at} {WAVES - 7}V{WAVES}" stroke="var(--edge)" />{/each}
    {#if edges}
      {@const [a, b] = [x(edges[0]!), x(edges[1]!)]}
      <rect x={a} y="0" width={Math.max(1, b - a)} height={WAVES} fill="var(--loop-wash)" />
      <path
        d="M{a + 7} 2H{a + 1.5}V{WAVES - 2}H{a + 7}M{b - 7} 2H{b - 1.5}V{WAVES - 2}H{b - 7}"
        fill="none"
        stroke="var(--color-primary)"
        stroke-width="2.5"
      />
    {/if}
    {#each ticks as t (t.at)}
      <path d="M{t.at} {WAVES}V{WAVES + 5}" stroke="var(--edge)" />
      <text x={t.at + 3} y={WAVES + 14} font-size="10.5" fill="var(--quiet)">{t.text}</text>
    {/each}
    {#if choosing}
      {@const [a, b] = [Math.min(...choosing), Math.max(...choosing)]}
      <rect x={x(a)} y="0" width={x(b) - x(a)} height={WAVES} fill="var(--loop-wash)" stroke="var(--edge)" />
    {/if}
    <path
      d="M{x(player.frame)} 0V{WAVES + AXIS + LEVELS}"
      stroke="var(--color-base-content)"
      stroke-width="1.5"
    />
  </svg>
  {#if problem}<p role="alert" class="absolute inset-x-0 top-20 text-center text-error">{problem}</p>{/if}
</div>
<p class="num mt-1 flex justify-between gap-3 text-quiet">
  <span>{spaced(start)}</span>
  <span
    >{wave?.rough
      ? "rough for now; the exact drawing is being made"
      : `${spaced(frames)} frames in view, ${clock(frames / track.rate)}${larger > 1.05 ? ` · drawn ${larger.toFixed(1)} times as high` : ""}`}</span
  >
  <span>{spaced(start + frames)}</span>
</p>
