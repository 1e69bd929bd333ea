/** The swaps of a mod: asking for them, and changing them. */

import { api, every, got, upload, type PutIn, type Stream, type Swap, type Treatment } from "../lib/api";
import { app } from "../lib/app.svelte";
import { cache, ofGame } from "../lib/cache";
import { count } from "../lib/format";
import { streamTitle } from "../lib/items";

/** Swaps that a job works on are looked at so often, in ms: the more there are, the longer an answer takes. */
const SOON = 250;
const EACH = 5;

const STATE: Record<string, { sign: string; text: string; tone: string }> = {
  held: { sign: "○", text: "not prepared", tone: "text-quiet" },
  reading: { sign: "…", text: "reading", tone: "text-quiet" },
  preparing: { sign: "…", text: "preparing", tone: "text-quiet" },
  ready: { sign: "✓", text: "fits", tone: "text-success" },
  open: { sign: "↻", text: "can be fitted", tone: "text-primary" },
  failed: { sign: "■", text: "failed", tone: "text-error" },
};

/** How far a swap is, as a sign, a word and a colour. */
export const stateOf = (s: Swap) =>
  s.state === "open" && s.verdict === "blocks"
    ? { sign: "■", text: "blocks", tone: "text-error" }
    : STATE[s.state]!;

export const isBusy = (swap: Swap | undefined) => swap?.state === "reading" || swap?.state === "preparing";

export const swapsOf = (game: number, mod_id: number) => ({
  queryKey: ofGame(game, "swaps"),
  queryFn: () =>
    every((query) => got(api.GET("/api/mods/{mod_id}/swaps", { params: { path: { mod_id }, query } }))),
});

/** The same, looked at again while one of them is worked on. */
export const swapsUnderWay = (game: number, mod_id: number) => ({
  ...swapsOf(game, mod_id),
  refetchInterval: ({ state }: { state: { data?: Swap[] } }) =>
    state.data?.some(isBusy) ? Math.max(SOON, EACH * state.data.length) : false,
});

/** The swaps are others than before: the route tells of them, too. */
async function swapsChanged(): Promise<void> {
  void app.refreshRoute();
  await cache.invalidateQueries({ queryKey: ofGame(app.gameId, "swaps") });
}

/** What a swap is now, from the answer to a change; a question under way, which is older, does not overtake it. */
async function told(swap: Swap): Promise<void> {
  const queryKey = ofGame(app.gameId, "swaps");
  await cache.cancelQueries({ queryKey });
  cache.setQueryData<Swap[]>(queryKey, (all) => all?.map((s) => (s.id === swap.id ? swap : s)));
  app.wake();
  void app.refreshRoute();
}

/** A file takes a stream's place; share: how much of it has been sent. Other takes of the stream wait. */
export async function give(stream: Stream, file: File, share: (done: number) => void): Promise<void> {
  const made = await upload<Swap>(
    `/api/mods/${app.game!.mod_id}/swaps`,
    file,
    { stream_id: stream.id },
    share,
  );
  await swapsChanged();
  app.wake();
  app.go("swap", String(made.id));
}

/** Another stream of the game takes a stream's place. */
export async function giveStream(stream: Stream, other: Stream): Promise<void> {
  const params = { path: { mod_id: app.game!.mod_id } };
  const body = { stream: stream.id, other: other.id };
  const made = await got(api.POST("/api/mods/{mod_id}/takes", { params, body }));
  await swapsChanged();
  app.wake();
  app.go("swap", String(made.id));
}

/** What a swap without a file begins from; none: no swap, what the game has. */
export type Begin = "original" | "silence" | "none";
/** LUFS (EBU R 128). */
export const USUAL = -23;
/** What is done to the level of an original: a gain, or the loudness to which it is brought. */
export type Level = { gain_db: number } | { match: "number"; lufs: number };

const were = (n: number, what: string) => `${count(n, what)} ${n === 1 ? "was" : "were"}`;

const signed = (value: number) => `${value > 0 ? "+" : "−"}${Math.abs(value)}`;

function levelled(level: Level): string {
  if ("match" in level) return ` at ${signed(level.lufs)} LUFS`;
  return level.gain_db ? ` with ${signed(level.gain_db)} dB` : "";
}

function toldOf(made: PutIn, source: Begin, level: Level): string {
  if (source === "none") return `${were(made.aside.length, "swap")} removed.`;
  const how = source === "silence" ? " as silence" : levelled(level);
  const told = [`${were(made.swaps.length, "stream")} put into the mod${how}.`];
  if (made.skipped) told.push(`${were(made.skipped, "stream")} left out: a file replaces the whole entry.`);
  if (made.unable) told.push(`${were(made.unable, "stream")} left out: the codec can’t be written.`);
  return told.join(" ");
}

/** Streams are put into the mod without a file, many at once; one Undo takes all of them back. Their swaps' numbers. */
export async function putIn(
  chosen: number[],
  source: Begin,
  level: Level = { gain_db: 0 },
): Promise<number[]> {
  const params = { path: { mod_id: app.game!.mod_id } };
  const body = { gain_db: 0, match: "", lufs: USUAL, chosen, source, ...level };
  const made = await app.attempt(api.POST("/api/mods/{mod_id}/put-in", { params, body }));
  if (!made) return [];
  app.say(toldOf(made, source, level), {
    label: "Undo",
    run: async () => {
      await app.attempt(api.POST("/api/mods/{mod_id}/take-back", { params, body: made }));
      await swapsChanged();
    },
  });
  app.wake();
  await swapsChanged();
  return made.swaps;
}

export async function change(swap: Swap, steps: Treatment): Promise<void> {
  const params = { path: { swap_id: swap.id } };
  await told(await got(api.PATCH("/api/swaps/{swap_id}", { params, body: steps })));
}

/** Let a point of the fit report be fitted. */
export async function fit(swap: Swap, point: string): Promise<void> {
  const params = { path: { swap_id: swap.id } };
  await told(await got(api.POST("/api/swaps/{swap_id}/fit", { params, body: { point } })));
}

/** Changes that follow each other faster than they are answered: each begins from what the one before it has led to. */
export function inTurn(): (work: () => Promise<void> | undefined) => Promise<void> {
  let last: Promise<void> = Promise.resolve();
  return (work) => (last = last.then(work, work));
}

/** The treatment as it was a step before, or behind. */
export async function step(swap: Swap, way: "undo" | "redo"): Promise<void> {
  const params = { path: { swap_id: swap.id } };
  await told(await got(api.POST(`/api/swaps/{swap_id}/${way}`, { params })));
}

/** Have the mod take this one of a stream's takes. */
export async function choose(swap: Swap): Promise<void> {
  await got(api.POST("/api/swaps/{swap_id}/choose", { params: { path: { swap_id: swap.id } } }));
  await swapsChanged();
}

/** Take one take away, or the swap with all of them; for a while they can be had back. next: the take that is seen then. */
export async function remove(swap: Swap, all_takes: boolean, next?: Swap): Promise<void> {
  const path = { swap_id: swap.id };
  await got(api.DELETE("/api/swaps/{swap_id}", { params: { path, query: { all_takes } } }));
  await swapsChanged();
  app.go("swap", next ? String(next.id) : "");
  const what = all_takes ? "swap" : "take";
  app.say(`The ${what} of ${swap.stream ? streamTitle(swap.stream) : swap.place} was removed.`, {
    label: "Undo",
    run: async () => {
      await app.attempt(api.POST("/api/swaps/{swap_id}/restore", { params: { path } }));
      await swapsChanged();
      app.go("swap", String(swap.id));
    },
  });
}
