import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { Item, Track } from "../src/lib/player.svelte";
import { asked, begin, differs, frame, heard, pass, server, SILENCE } from "./clock";

const RATE = 48_000;
const track = (more: Partial<Track> = {}): Track => ({
  audio: "original",
  rate: RATE,
  channels: 1,
  frames: 400_000,
  loop: null,
  ...more,
});
const item = (original: Partial<Track> = {}, fresh?: Partial<Track>): Item => ({
  title: "a tune",
  place: "here",
  original: track(original),
  fresh: fresh ? track({ audio: "new", ...fresh }) : null,
});

async function playerOf(what: Item) {
  vi.resetModules();
  const { player } = await import("../src/lib/player.svelte");
  player.load(what);
  return player;
}

/** What was heard begins with all of this, without a gap. */
function expectHeard(wanted: number[], rate = RATE): void {
  const found = heard(rate);
  expect(differs(found, wanted), "first tick that differs").toBe(-1);
  expect(found.length).toBeGreaterThanOrEqual(wanted.length);
}

beforeEach(begin);
afterEach(() => {
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

test("a sound is played once, frame by frame, and its end is told once", async () => {
  const player = await playerOf(item());
  const ended = (player.ended = vi.fn());
  player.toggle();
  await pass(1);
  expect(Math.abs(player.frame - (1 - 0.05) * RATE)).toBeLessThan(0.05 * RATE);
  expect(asked[0]!.frames).toBeLessThan(RATE / 3); // little is waited for at first
  await pass(8.5);
  expect(heard(RATE)).toEqual(frame(0, 400_000));
  expect(ended).toHaveBeenCalledTimes(1);
  expect([player.playing, player.frame]).toEqual([false, 400_000]);
  player.toggle();
  expect(player.frame).toBe(0); // once more from the start
});

test("a loop goes back to its first frame behind its last one, as often as it likes", async () => {
  const player = await playerOf(item({ loop: [30_001, 130_003] }));
  player.toggle();
  await pass(7);
  const lap = frame(30_001, 130_003);
  expectHeard([...frame(0, 130_003), ...lap, ...lap.slice(0, 90_000)]);
  player.looping = false; // what is scheduled is played, then on to the end
  await pass(12);
  expect(heard(RATE).slice(-270_000)).toEqual(frame(130_000, 400_000));
});

test("a short loop is asked for once and repeats itself to the frame", async () => {
  const player = await playerOf(item({ loop: [100, 1_103] }));
  player.toggle();
  await pass(4);
  const lap = frame(100, 1_103);
  expectHeard([...frame(0, 100), ...Array.from({ length: 150 }, () => lap).flat()]);
  expect(asked.filter(({ start }) => start === 100)).toHaveLength(1);
  expect(player.frame).toBeGreaterThanOrEqual(100);
  expect(player.frame).toBeLessThan(1_103);
});

test("the other side goes on at the same moment, at its own rate, and stays while it plays", async () => {
  const player = await playerOf(item({}, { rate: 24_000, frames: 200_000 }));
  player.toggle();
  await pass(2);
  const at = Math.round((player.frame / RATE) * 24_000);
  player.change("new");
  expect(player.side).toBe("new");
  await pass(1);
  const found = heard(24_000);
  expect(differs(found, frame(at, at + 20_000, -1))).toBe(-1);
  const before = heard(RATE).length;
  await pass(1);
  expect(heard(RATE).length).toBe(before); // the first one is silent
  player.change("original");
  expect(Math.abs(player.frame - (at + 2 * 24_000) * 2)).toBeLessThan(0.1 * RATE);
});

test("the seam is heard from three seconds before the loop's end on, over it", async () => {
  const player = await playerOf(item({ loop: [50_000, 350_000] }));
  player.looping = false;
  player.seam();
  await pass(4);
  expectHeard([...frame(350_000 - 3 * RATE, 350_000), ...frame(50_000, 80_000)]);
  player.tryLoop([61_234, 120_000]); // other points are heard at once; they are not the stream's
  await pass(2);
  expect(player.item!.original!.loop).toEqual([50_000, 350_000]);
  const [last, first] = [...frame(119_999, 120_000), ...frame(61_234, 61_235)];
  const found = heard(RATE);
  const seam = found.findLastIndex((value, n) => value === last && found[n + 1] === first);
  expect(seam).toBeGreaterThan(4 * RATE);
  expect(differs(found.slice(seam + 1), frame(61_234, 120_000))).toBe(-1);
});

test("where chunks come late, sound goes on with the very next frame", async () => {
  const player = await playerOf(item());
  server.slow = 2;
  player.toggle();
  await pass(14);
  const found = heard(RATE);
  const waited = found.filter((value) => value === SILENCE).length;
  expect(waited).toBeGreaterThan(RATE);
  expect(waited).toBeLessThan(found.length / 2); // and no longer than for the answer
  const sounds = found.filter((value) => value !== SILENCE);
  expect(differs(sounds, frame(0, sounds.length))).toBe(-1);
  expect(sounds.length).toBeGreaterThan(200_000);
});

test("a chunk that comes after a stop is not heard, and a seek goes where it leads", async () => {
  const player = await playerOf(item());
  server.slow = 0.5;
  player.toggle();
  await pass(0.2);
  player.stop();
  await pass(1);
  expect(heard(RATE)).toEqual([]);
  server.slow = 0;
  player.toggle();
  await pass(0.3);
  player.seek(200_000);
  await pass(0.5);
  const found = heard(RATE);
  const jump = found.indexOf((200_000 % 30_000) + 1);
  expect(differs(found.slice(jump), frame(200_000, 215_000))).toBe(-1);
  player.seek(9e9);
  expect(player.frame).toBe(400_000);
});

test("one channel alone is heard on both, and a fault of the server is told", async () => {
  const player = await playerOf(item({ audio: "stereo", channels: 2 }));
  player.hear(1);
  player.toggle();
  await pass(0.5);
  expect([new Set(heard(RATE)), new Set(heard(RATE, 1))]).toEqual([new Set([31_000]), new Set([31_000])]);
  player.stop();
  server.status = 500;
  player.seek(0);
  player.toggle();
  await pass(0.1);
  expect([player.playing, player.problem?.what]).toEqual([false, "It can't be decoded."]);
});
