<script lang="ts">
  import { peaks } from "../lib/api";

  /** A small waveform: thin bars that stand on a base line. */
  let {
    audio,
    bins = 40,
    width = 92,
    height = 22,
    color = "var(--bars-old)",
  }: { audio: string; bins?: number; width?: number; height?: number; color?: string } = $props();

  let bars = $state<number[]>([]);
  $effect(() => {
    const wanted = audio;
    let gone = false;
    bars = [];
    // A row that is only scrolled past asks for nothing.
    const timer = setTimeout(() => {
      peaks(wanted, bins).then(
        (p) => !gone && (bars = p),
        () => {},
      );
    }, 60);
    return () => {
      gone = true;
      clearTimeout(timer);
    };
  });
  const top = $derived(Math.max(32, ...bars));
  const path = $derived(
    bars
      .map((v, i) => {
        const x = ((i + 0.5) * width) / bins;
        return `M${x.toFixed(1)} ${height}V${(height - 1 - (v / top) * (height - 2)).toFixed(1)}`;
      })
      .join(""),
  );
</script>

<svg {width} {height} viewBox="0 0 {width} {height}" aria-hidden="true">
  <path d={path} stroke={color} stroke-width={Math.max(1, (width / bins) * 0.6)} />
</svg>
