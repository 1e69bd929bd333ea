/**
 * The listening strip's engine. The server decodes; here chunks of samples are put one behind
 * the other on the clock of an AudioContext that runs at the stream's own rate, so that loops,
 * the seam and the change between original and new are exact to the frame.
 */

import { asProblem, pcm, type ProblemText } from "./api";

export interface Track {
  audio: string;
  rate: number;
  channels: number;
  frames: number;
  loop: number[] | null | undefined;
}

export interface Item {
  title: string;
  place: string;
  original: Track | null;
  fresh: Track | null;
}

export type Side = "original" | "new";

interface Span {
  from: number; // context time in seconds
  frame: number; // first frame
  frames: number;
  lap: number; // frames after which the span repeats itself: its own length but for short loops
  node: AudioBufferSourceNode;
}

const FIRST = 12_000; // frames of the first chunk: small, so that sound begins at once
const CHUNK = 65_536;
const AHEAD = 1.5; // seconds that are kept scheduled
const LEAD = 0.03; // seconds between the command and the first frame
const SEAM = 3; // seconds heard before the seam

class Player {
  item = $state<Item | null>(null);
  side = $state<Side>("original");
  playing = $state(false);
  looping = $state(true);
  frame = $state(0);
  problem = $state<ProblemText | null>(null);
  /** The only channel that is heard; -1: all of them. */
  solo = $state(-1);
  /** Other loop points that are tried out; they change nothing in the game. */
  tried = $state<[number, number] | null>(null);
  /** Called when a sound has ended by itself. */
  ended: (() => void) | null = null;

  private contexts = new Map<number, AudioContext>();
  private spans: Span[] = [];
  private run = 0; // every start and stop begins a new run; late chunks of an old one are dropped
  private abort: AbortController | null = null;

  get track(): Track | null {
    if (!this.item) return null;
    return this.side === "new" ? (this.item.fresh ?? this.item.original) : this.item.original;
  }

  /** The loop that is played now. */
  get loop(): number[] | null {
    return this.tried ?? this.track?.loop ?? null;
  }

  get seconds(): number {
    return this.track ? this.frame / this.track.rate : 0;
  }

  /** Make an item the one to be heard. The same place keeps its position. */
  load(item: Item, side: Side = "original"): void {
    const same = this.item?.place === item.place;
    const sameSound = same && this.track?.audio === (side === "new" ? item.fresh : item.original)?.audio;
    if (sameSound && this.playing) {
      this.item = item;
      return;
    }
    const at = same ? this.seconds : 0;
    const wasPlaying = same && this.playing;
    this.stop();
    this.item = item;
    this.side = side === "new" && item.fresh ? "new" : "original";
    this.problem = null;
    if (!same) {
      this.tried = null;
      this.solo = -1;
    }
    this.frame = this.track ? Math.min(Math.round(at * this.track.rate), this.track.frames) : 0;
    if (wasPlaying) void this.start(this.frame);
  }

  toggle(): void {
    if (this.playing) this.stop();
    else void this.start(this.track && this.frame >= this.track.frames ? 0 : this.frame);
  }

  /** Original or new at the same moment. */
  change(side: Side): void {
    if (!this.item || side === this.side || !(side === "new" ? this.item.fresh : this.item.original)) return;
    this.syncFrame();
    const at = this.seconds;
    const playing = this.playing;
    this.stop();
    this.side = side;
    this.frame = Math.min(Math.round(at * this.track!.rate), this.track!.frames);
    if (playing) void this.start(this.frame);
  }

  seek(frame: number): void {
    if (!this.track) return;
    const playing = this.playing;
    this.stop();
    this.frame = Math.max(0, Math.min(Math.round(frame), this.track.frames));
    if (playing) void this.start(this.frame);
  }

  /** From a little before the loop's end, across the seam. */
  seam(): void {
    const loop = this.loop;
    if (!this.track || !loop) return;
    this.stop();
    this.looping = true;
    void this.start(Math.max(loop[0]!, loop[1]! - SEAM * this.track.rate));
  }

  stop(): void {
    this.syncFrame();
    this.run++;
    this.abort?.abort();
    this.playing = false;
    for (const span of this.spans) {
      span.node.onended = null;
      span.node.stop();
    }
    this.spans = [];
  }

  async start(frame: number): Promise<void> {
    const track = this.track;
    if (!track) return;
    if (this.playing) this.stop();
    const run = ++this.run;
    this.abort = new AbortController();
    this.playing = true;
    this.problem = null;
    this.frame = frame;
    const context = this.contextFor(track.rate);
    void context.resume();
    let cursor = frame; // next frame of the stream
    let begun = -1; // context frame of the first sample
    let scheduled = 0; // frames put on the clock so far
    let size = FIRST;
    let short: Int16Array | null = null; // a loop shorter than a chunk: asked for once
    try {
      for (;;) {
        const loop = this.looping ? this.loop : null;
        const end = loop && cursor < loop[1]! ? loop[1]! : track.frames;
        if (cursor >= end) break;
        const isLap = loop && cursor === loop[0] && end - cursor <= CHUNK;
        const lap = isLap ? end - cursor : Math.min(size, end - cursor);
        const count = isLap ? lap * Math.ceil(CHUNK / lap) : lap;
        const data: Int16Array = (isLap && short) || (await pcm(track.audio, cursor, lap, this.abort.signal));
        if (isLap) short = data;
        if (run !== this.run) return;
        const buffer = toBuffer(context, data, track, count / lap, this.solo);
        const now = Math.ceil((context.currentTime + LEAD) * track.rate);
        if (begun < 0 || begun + scheduled < now) begun = now - scheduled; // the first, or late: go on now
        const from = (begun + scheduled) / track.rate;
        const node = context.createBufferSource();
        node.buffer = buffer;
        node.connect(context.destination);
        node.start(from);
        this.spans.push({ from, frame: cursor, frames: count, lap, node });
        if (scheduled === 0) this.follow(run, context, track.rate);
        scheduled += count;
        cursor += lap;
        if (loop && cursor === loop[1]) cursor = loop[0]!;
        size = CHUNK;
        while (from + count / track.rate - context.currentTime > AHEAD) {
          await new Promise((done) => setTimeout(done, 100));
          if (run !== this.run) return;
        }
      }
      const last = this.spans.at(-1);
      if (last)
        last.node.onended = () => {
          if (run !== this.run) return;
          this.stop();
          this.frame = track.frames;
          this.ended?.();
        };
      else this.stop();
    } catch (error) {
      if (run !== this.run) return;
      this.stop();
      this.problem = asProblem(error);
    }
  }

  /** Have the beginning of another sound ready, so that it is heard at once when it is chosen. */
  prepare(track: Track): void {
    void pcm(track.audio, 0, Math.min(FIRST, track.frames)).catch(() => {});
  }

  /** Hear one channel, or all; where it is playing, from here on. */
  hear(channel: number): void {
    this.solo = channel;
    this.again();
  }

  /** Try other loop points out; null goes back to the stream's own. */
  tryLoop(loop: [number, number] | null): void {
    this.tried = loop;
    this.again();
  }

  private again(): void {
    if (!this.playing) return;
    this.syncFrame();
    const at = this.frame;
    this.stop();
    void this.start(at);
  }

  private contextFor(rate: number): AudioContext {
    let context = this.contexts.get(rate);
    if (!context) {
      context = new AudioContext({ sampleRate: rate, latencyHint: "interactive" });
      this.contexts.set(rate, context);
    }
    return context;
  }

  /** Keep `frame` at what is heard now. */
  private follow(run: number, context: AudioContext, rate: number): void {
    const tick = () => {
      if (run !== this.run) return;
      const now = context.currentTime;
      while (this.spans.length > 1 && this.spans[1]!.from <= now) this.spans.shift();
      const span = this.spans[0];
      if (span && now >= span.from) this.frame = heard(span, Math.floor((now - span.from) * rate));
      requestAnimationFrame(tick);
    };
    tick();
  }

  private syncFrame(): void {
    const track = this.track;
    const span = this.spans[0];
    const context = track && this.contexts.get(track.rate);
    if (!span || !context) return;
    const into = Math.floor((context.currentTime - span.from) * track.rate);
    if (into >= 0) this.frame = heard(span, into);
  }
}

/** The stream's frame that sounds `into` frames after the span began. */
function heard(span: Span, into: number): number {
  return span.frame + (into < span.frames ? into % span.lap : span.lap);
}

function toBuffer(
  context: AudioContext,
  data: Int16Array,
  track: Track,
  laps: number,
  solo: number,
): AudioBuffer {
  const frames = data.length / track.channels;
  const buffer = context.createBuffer(track.channels, frames * laps, track.rate);
  for (let c = 0; c < track.channels; c++) {
    const out = buffer.getChannelData(c);
    for (let n = 0, i = solo >= 0 ? solo : c; n < frames; n++, i += track.channels) out[n] = data[i]! / 32768;
    for (let lap = 1; lap < laps; lap++) out.copyWithin(lap * frames, 0, frames);
  }
  return buffer;
}

export const player = new Player();
