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
