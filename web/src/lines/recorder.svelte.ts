/** Recording a line: a microphone, its level, and what is recorded, kept in this browser until somebody has decided on it. */

import type { ProblemText } from "../lib/api";
import tap from "./recorder.worklet.js?url";

export interface Recording {
  /** The stream that it is of, and what that is called. */
  stream: number;
  title: string;
  game: number;
  rate: number;
  pieces: Float32Array[];
}

const STORE = "zubret recordings";
const PIECES = "pieces";
const HEAD = "head";

function opened(): Promise<IDBDatabase> {
  return new Promise((done, failed) => {
    const request = indexedDB.open(STORE, 1);
    request.onupgradeneeded = () => {
      request.result.createObjectStore(PIECES, { autoIncrement: true });
      request.result.createObjectStore(HEAD);
    };
    request.onsuccess = () => done(request.result);
    request.onerror = () => failed(request.error);
  });
}

async function within<T>(
  mode: IDBTransactionMode,
  work: (store: (name: string) => IDBObjectStore) => T,
): Promise<T> {
  const base = await opened();
  try {
    const transaction = base.transaction([PIECES, HEAD], mode);
    const result = work((name) => transaction.objectStore(name));
    await new Promise<void>((done, failed) => {
      transaction.oncomplete = () => done();
      transaction.onerror = () => failed(transaction.error);
    });
    return result;
  } finally {
    base.close();
  }
}

/** What was recorded and not decided on, as after a tab that was closed. */
export async function leftOver(): Promise<Recording | null> {
  try {
    const found = await within("readonly", (store) => ({
      head: store(HEAD).get("head"),
      pieces: store(PIECES).getAll(),
    }));
    const head = found.head.result as Omit<Recording, "pieces"> | undefined;
    const pieces = found.pieces.result as Float32Array[];
    return head && pieces.length ? { ...head, pieces } : null;
  } catch {
    return null; // a browser that keeps nothing has nothing left over
  }
}

/** It was decided on. */
export async function forget(): Promise<void> {
  await within("readwrite", (store) => {
    store(PIECES).clear();
    store(HEAD).clear();
  }).catch(() => {});
}

/** A WAV file of 24 bits and one channel (RIFF/WAVE, format tag 1). */
export function wavOf({ pieces, rate, title }: Recording): File {
  const frames = pieces.reduce((sum, piece) => sum + piece.length, 0);
  const bytes = new DataView(new ArrayBuffer(44 + frames * 3 + (frames % 2)));
  const text = (at: number, word: string) =>
    [...word].forEach((sign, n) => bytes.setUint8(at + n, sign.charCodeAt(0)));
  text(0, "RIFF");
  bytes.setUint32(4, bytes.byteLength - 8, true);
  text(8, "WAVEfmt ");
  bytes.setUint32(16, 16, true);
  bytes.setUint16(20, 1, true);
  bytes.setUint16(22, 1, true);
  bytes.setUint32(24, rate, true);
  bytes.setUint32(28, rate * 3, true);
  bytes.setUint16(32, 3, true);
  bytes.setUint16(34, 24, true);
  text(36, "data");
  bytes.setUint32(40, frames * 3, true);
  let at = 44;
  for (const piece of pieces)
    for (const sample of piece) {
      const value = Math.max(-0x800000, Math.min(0x7fffff, Math.round(sample * 0x800000)));
      bytes.setUint8(at, value & 0xff);
      bytes.setInt16(at + 1, value >> 8, true);
      at += 3;
    }
  const stamp = new Date().toISOString().slice(0, 19).replace("T", " ").replaceAll(":", "-");
  return new File([bytes], `${title.replace(/[^\p{L}\p{N} ._-]/gu, "_")} ${stamp}.wav`, {
    type: "audio/wav",
  });
}

const problem = (what: string, next: string): ProblemText => ({ what, where: "", next });

function explained(error: unknown): ProblemText {
  const name = error instanceof DOMException ? error.name : "";
  if (name === "NotAllowedError" || name === "SecurityError")
    return problem(
      "The browser does not let Zubret listen to a microphone.",
      "Allow it for this address (beside the address bar), then try again.",
    );
  if (name === "NotFoundError" || name === "OverconstrainedError")
    return problem("There is no input device.", "Plug in a microphone, then try again.");
  if (name === "NotReadableError")
    return problem("The input device can't be opened.", "Close other programs that use it, then try again.");
  return problem(
    `Recording is not possible: ${String(error)}`,
    "Try again, or record to a file and drop that.",
  );
}

export class Recorder {
  devices = $state.raw<MediaDeviceInfo[]>([]);
  device = $state("");
  /** The loudest sample of the last tenth of a second, 0 to 1; whether one was too loud since recording began. */
  level = $state(0);
  clipped = $state(false);
  recording = $state(false);
  seconds = $state(0);
  problem = $state<ProblemText | null>(null);
  ready = $state(false);
  private context: AudioContext | null = null;
  private stream: MediaStream | null = null;
  private current: Recording | null = null;
  private writing: Promise<unknown> = Promise.resolve();

  /** Listen to a device, the usual one where none is named. */
  async open(): Promise<void> {
    this.close();
    this.problem = null;
    if (!navigator.mediaDevices) {
      this.problem = problem(
        "A browser records only on a secure address.",
        "Open Zubret on this machine itself, or by https.",
      );
      return;
    }
    try {
      const audio = {
        echoCancellation: false,
        noiseSuppression: false,
        autoGainControl: false,
        ...(this.device ? { deviceId: { exact: this.device } } : {}),
      };
      this.stream = await navigator.mediaDevices.getUserMedia({ audio });
      this.device = this.stream.getAudioTracks()[0]?.getSettings().deviceId ?? this.device;
      this.devices = (await navigator.mediaDevices.enumerateDevices()).filter((d) => d.kind === "audioinput");
      this.context = new AudioContext();
      await this.context.audioWorklet.addModule(tap);
      const node = new AudioWorkletNode(this.context, "zubret-tap", { numberOfOutputs: 0, channelCount: 1 });
      this.context.createMediaStreamSource(this.stream).connect(node);
      node.port.onmessage = ({ data }: MessageEvent<Float32Array>) => this.take(data);
      this.ready = true;
    } catch (error) {
      this.close();
      this.problem = explained(error);
    }
  }

  close(): void {
    this.recording = this.ready = false;
    this.stream?.getTracks().forEach((track) => track.stop());
    void this.context?.close();
    this.stream = this.context = null;
  }

  /** From now on what comes is kept. */
  begin(of: { stream: number; title: string; game: number }): void {
    if (!this.context) return;
    const current: Recording = { ...of, rate: this.context.sampleRate, pieces: [] };
    const { pieces: _, ...head } = current;
    this.write((store) => {
      store(PIECES).clear();
      store(HEAD).put(head, "head");
    });
    this.clear();
    this.current = current;
    this.recording = true;
  }

  /** Nothing is recorded yet of what comes next. */
  clear(): void {
    this.seconds = 0;
    this.clipped = false;
  }

  /** Each write behind those before it. */
  private write(work: Parameters<typeof within>[1]): void {
    this.writing = this.writing.then(() => within("readwrite", work)).catch(() => {});
  }

  /** What was recorded; it is kept until `forget`. */
  async end(): Promise<Recording | null> {
    this.recording = false;
    const done = this.current;
    this.current = null;
    await this.writing;
    return done?.pieces.length ? done : null;
  }

  private take(piece: Float32Array): void {
    let peak = 0;
    for (const sample of piece) peak = Math.max(peak, Math.abs(sample));
    this.level = peak;
    if (!this.recording || !this.current) return;
    this.clipped ||= peak >= 0.999;
    this.current.pieces.push(piece);
    this.seconds += piece.length / this.current.rate;
    this.write((store) => store(PIECES).add(piece));
  }
}
