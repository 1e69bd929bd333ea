/** Streams and swaps as what the listening strip plays. */

import type { Stream, Swap } from "./api";
import type { Item } from "./player.svelte";

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
