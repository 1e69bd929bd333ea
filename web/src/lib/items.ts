/** Streams and swaps as what the listening strip plays. */

import type { Stream, Swap } from "./api";
import { clock } from "./format";
import type { Item } from "./player.svelte";

/** What a stream can be. */
export const KINDS = ["music", "voice", "effect"];

export function streamTitle(stream: Stream): string {
  return stream.name || `${stream.bank} ${stream.stream_id}`;
}

export function itemOf(stream: Stream, swap?: Swap): Item {
  const { audio, rate, channels, frames, loop } = stream;
  return {
    title: streamTitle(stream),
    place: stream.place,
    original: { audio, rate, channels, frames, loop },
    fresh: swap?.new
      ? {
          audio: swap.new.audio,
          rate: swap.new.rate,
          channels: swap.new.channels,
          frames: swap.new.frames,
          loop: swap.new.loop,
        }
      : null,
  };
}

/** A stream's loop in words: none, whole, or from where to where. */
export function loopText({ loop, frames, rate }: Stream): string {
  if (!loop) return "none";
  const [a, b] = loop as [number, number];
  if (a === 0 && b === frames) return "whole";
  return `${clock(a / rate, 1)} – ${b === frames ? "end" : clock(b / rate, 1)}`;
}

/** The loop that is put in, in the replacement file's own frames: [start, end). */
export function loopOf(swap: Swap): [number, number] | null {
  if (!swap.info) return null;
  const t = swap.treatment;
  if (t.loop === "points") return [t.loop_start, t.loop_end];
  if (t.loop === "whole") return [t.trim_start, t.trim_end ?? swap.info.frames];
  return t.loop === "source" && swap.info.loop ? [swap.info.loop[0]!, swap.info.loop[1]!] : null;
}
