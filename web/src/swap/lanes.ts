/** What the lanes draw: bars of a track, ticks of the axis, brackets of a loop. */

import { pcm, peaks } from "../lib/api";
import type { Track } from "../lib/player.svelte";

/** The loudest sample around a moment: seconds, and 0 to 255. */
export interface Bar {
  at: number;
  v: number;
}
export const LANE = 100;
/** Seconds at either side of the seam. */
export const SEAM = 3;
const BINS = 960;
const STEPS = [0.1, 0.25, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600];

/** The bars of a whole track. */
export async function barsOf(track: Track): Promise<Bar[]> {
  const seconds = track.frames / track.rate;
  return (await peaks(track.audio, BINS)).map((v, i) => ({ at: ((i + 0.5) / BINS) * seconds, v }));
}

/** The bars around the seam of its loop: the end before it, then its beginning. */
export async function barsOfSeam(track: Track): Promise<Bar[]> {
  if (!track.loop) return [];
  const [start, end] = track.loop as [number, number];
  const reach = Math.min(SEAM * track.rate, end - start);
  const [tail, head] = await Promise.all([
    pcm(track.audio, end - reach, reach),
    pcm(track.audio, start, reach),
  ]);
  const out: Bar[] = [];
  const step = Math.ceil(track.rate / 75);
  for (const [data, from] of [
    [tail, -reach / track.rate],
    [head, 0],
  ] as const)
    for (let f = 0; f < reach; f += step) {
      let v = 0;
      const last = Math.min(reach, f + step) * track.channels;
      for (let i = f * track.channels; i < last; i++) v = Math.max(v, Math.abs(data[i]!));
      out.push({ at: from + (f + step / 2) / track.rate, v: v / 128 });
    }
  return out;
}

/** Bars as the path of an SVG: at least 3 px apart, of several the loudest; direction: -1 stands up from the base, 1 hangs. */
export function drawn(
  bars: Bar[],
  x: (seconds: number) => number,
  width: number,
  scale: number,
  base: number,
  direction: 1 | -1,
): string {
  const columns = new Map<number, number>();
  for (const bar of bars) {
    const px = x(bar.at);
    if (px < -3 || px > width + 3) continue;
    const column = Math.round(px / 3);
    columns.set(column, Math.max(columns.get(column) ?? 0, bar.v));
  }
  let out = "";
  for (const [column, v] of columns)
    out += `M${column * 3} ${base}V${(base + direction * Math.max(1, (v / scale) * (LANE - 6))).toFixed(1)}`;
  return out;
}

/** Moments of the axis, in seconds, about eight. */
export function ticksBetween([from, to]: [number, number]): number[] {
  const target = (to - from) / 8;
  const step = STEPS.find((s) => s >= target) ?? 1200;
  const out: number[] = [];
  for (let t = Math.ceil(from / step) * step; t < to; t += step) out.push(t);
  return out;
}

/** Edges of blocks that take `block` seconds, at least 7 px apart: every how many, and where. */
export function blockEdges([from, to]: [number, number], block: number, width: number) {
  const every = Math.max(1, Math.ceil(7 / ((block / (to - from)) * width)));
  const at: number[] = [];
  const first = Math.ceil(from / (block * every));
  for (let n = first; n * block * every < to && at.length < 600; n++) at.push(n * block * every);
  return { every, at };
}

/** A square bracket that opens to one side. */
export const bracket = (px: number, from: number, to: number, side: 1 | -1) =>
  `M${px + 9 * side} ${from}H${px}V${to}H${px + 9 * side}`;
