/**
 * A clock that moves only when it is told to, and what is heard by it: in place of the browser's audio, of its frames, and of
 * the network between the page and the server. Every sample of a sound says which frame it is.
 */

import { vi } from "vitest";

const STEP = 0.02; // seconds
const WRAP = 30_000; // a sample tells its frame modulo this, from 1 on; the new sound's are below zero

export const SILENCE = -1;

class Source {
  buffer: { length: number; getChannelData(channel: number): Float32Array } | null = null;
  onended: (() => void) | null = null;
  from = Infinity;
  until = Infinity;
  constructor(private context: Context) {}
  connect(): void {}
  start(at: number): void {
    this.from = at;
  }
  stop(): void {
    this.until = Math.min(this.until, this.context.currentTime);
  }
}

class Context {
  static all: Context[] = [];
  currentTime = 0;
  destination = {};
  sources: Source[] = [];
  constructor(readonly how: { sampleRate: number }) {
    Context.all.push(this);
  }
  resume(): Promise<void> {
    return Promise.resolve();
  }
  createBufferSource(): Source {
    const source = new Source(this);
    this.sources.push(source);
    return source;
  }
  createBuffer(channels: number, length: number) {
    const data = Array.from({ length: channels }, () => new Float32Array(length));
    return { length, getChannelData: (channel: number) => data[channel]! };
  }
}

let frames: (() => void)[] = [];
export const asked: { audio: string; start: number; frames: number }[] = [];
/** Seconds that an answer takes; what it answers with. */
export const server = { slow: 0, status: 200 };

function answer(url: string): Response {
  const [, audio, start, count] = /audio\/(.+)\/pcm\?start=(\d+)&frames=(\d+)/.exec(url)!;
  const channels = audio!.endsWith("stereo") ? 2 : 1;
  const [from, length] = [Number(start), Number(count)];
  asked.push({ audio: audio!, start: from, frames: length });
  if (server.status !== 200)
    return new Response(JSON.stringify({ what: "It can't be decoded.", where: "", next: "" }), {
      status: server.status,
    });
  const sign = audio!.startsWith("new") ? -1 : 1;
  const data = new Int16Array(length * channels);
  for (let n = 0; n < length; n++)
    for (let c = 0; c < channels; c++) data[n * channels + c] = c ? 31_000 : sign * (((from + n) % WRAP) + 1);
  return new Response(data.buffer);
}

export function begin(): void {
  vi.useFakeTimers();
  [Context.all, frames, asked.length, server.slow, server.status] = [[], [], 0, 0, 200];
  vi.stubGlobal("location", { host: "here", hash: "" });
  vi.stubGlobal("AudioContext", Context);
  vi.stubGlobal("requestAnimationFrame", (tick: () => void) => frames.push(tick));
  vi.stubGlobal("fetch", async (url: string) => {
    const found = answer(url);
    if (server.slow) await new Promise((done) => setTimeout(done, server.slow * 1000));
    return found;
  });
}

/** Let time pass. */
export async function pass(seconds: number): Promise<void> {
  for (let n = Math.round(seconds / STEP); n > 0; n--) {
    await vi.advanceTimersByTimeAsync(STEP * 1000);
    for (const context of Context.all) context.currentTime += STEP;
    for (const tick of frames.splice(0)) tick();
    for (const { sources, currentTime, how } of Context.all)
      for (const source of sources) {
        const ends = source.from + (source.buffer?.length ?? 0) / how.sampleRate;
        if (source.until === Infinity && currentTime >= ends) {
          source.until = ends;
          source.onended?.();
        }
      }
    await vi.advanceTimersByTimeAsync(0);
  }
}

/**
 * What has been heard so far at a rate, from the first sound on: the frame at each tick of the clock, SILENCE where there was
 * none. Two sounds at once are an error.
 */
export function heard(rate: number, channel = 0): number[] {
  const out: number[] = [];
  for (const context of Context.all.filter(({ how }) => how.sampleRate === rate)) {
    const now = Math.floor(context.currentTime * rate);
    for (const { from, until, buffer } of context.sources) {
      const [first, data] = [Math.round(from * rate), buffer!.getChannelData(channel)];
      for (let n = 0; n < data.length && first + n < now && (first + n) / rate < until; n++) {
        if (out[first + n] !== undefined) throw new Error(`two sounds at frame ${first + n} of the clock`);
        out[first + n] = Math.round(data[n]! * 32_768);
      }
    }
  }
  const begun = out.findIndex((value) => value !== undefined);
  return begun < 0 ? [] : Array.from(out.slice(begun), (value) => value ?? SILENCE);
}

/** Samples that say these frames, for comparison with what was heard. */
export function frame(from: number, to: number, sign = 1): number[] {
  return Array.from({ length: to - from }, (_, n) => sign * (((from + n) % WRAP) + 1));
}

/** Where two runs of samples differ first; -1 where one is the beginning of the other. */
export function differs(found: number[], wanted: number[]): number {
  return found.findIndex((value, n) => n < wanted.length && value !== wanted[n]);
}
