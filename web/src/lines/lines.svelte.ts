/** Streams as spoken lines: the list of them, and what it shows. */

import { api, got, type Line, type LinePage } from "../lib/api";
import { app } from "../lib/app.svelte";
import { cache, ofGame } from "../lib/cache";
import { Columns } from "../lib/columns.svelte";
import { clock } from "../lib/format";
import { itemOf } from "../lib/items";
import type { Item } from "../lib/player.svelte";
import { asked, type Query } from "../lib/query";
import type { Fetch } from "../lib/rows.svelte";
import { OfStreams } from "../lib/streams.svelte";

const pagesOf = (game: number) => ofGame(game, "lines", "page");

export class LineRows extends OfStreams<Line, LinePage> {
  constructor(game: number, mod_id: number, query: Query) {
    const path = { mod_id };
    const fetch: Fetch<Query, Line, LinePage> = (query, page, signal) =>
      got(
        api.GET("/api/mods/{mod_id}/lines", {
          params: { path, query: { ...asked(query), ...page } },
          signal,
        }),
      );
    super(game, pagesOf(game), fetch, query);
  }
}

/** What lines tell may be another thing now: what is in view is asked for anew. */
export async function linesChanged(): Promise<void> {
  void app.refreshRoute();
  await cache.invalidateQueries({ queryKey: ofGame(app.gameId, "lines") });
  await cache.invalidateQueries({ queryKey: ofGame(app.gameId, "swaps") });
}

/** A line as the listening strip plays it. */
export function heard(line: Line): Item {
  return { ...itemOf(line.stream), fresh: line.take?.new ?? null };
}

/** How far a line is, as a sign, a word and a colour. */
export function stateOf(line: Line): { sign: string; text: string; tone: string } {
  const take = line.take;
  if (!take) return { sign: "○", text: "no take", tone: "text-quiet" };
  if (take.state === "ready") return { sign: "✓", text: "fits", tone: "text-success" };
  if (take.state === "held") return { sign: "○", text: "not prepared", tone: "text-quiet" };
  if (take.state === "failed") return { sign: "■", text: "failed", tone: "text-error" };
  if (take.state !== "open") return { sign: "…", text: take.state, tone: "text-quiet" };
  return take.verdict === "blocks"
    ? { sign: "■", text: "blocks", tone: "text-error" }
    : { sign: "↻", text: "can be fitted", tone: "text-primary" };
}

export const isBusy = (line: Line) => ["reading", "preparing"].includes(line.take?.state ?? "");

/** Seconds of the new sound; null where there is none. */
export const newSeconds = (line: Line) => (line.take?.new ? line.take.new.frames / line.take.new.rate : null);

const level = (value: number | null | undefined) =>
  value === null || value === undefined ? "–" : value.toFixed(1).replace("-", "−");

export function lineColumns(): Columns<Line> {
  return new Columns<Line>("lines", () => [
    { key: "done", label: "done", width: 34, always: true },
    {
      key: "id",
      label: "id",
      sort: "id",
      num: true,
      width: 64,
      text: (l) => l.stream.stream_id || l.stream.name || "–",
      title: (l) => l.stream.place,
      always: true,
    },
    {
      key: "bank",
      label: "bank",
      sort: "bank",
      width: 70,
      grow: 0.5,
      text: (l) => l.stream.bank,
      quiet: () => true,
    },
    {
      key: "language",
      label: "language",
      sort: "language",
      width: 70,
      text: (l) => l.stream.language || "–",
    },
    { key: "text", label: "text", width: 160, grow: 3, always: true },
    { key: "length", label: "original, new", sort: "length", down: true, width: 190 },
    {
      key: "level",
      label: "LUFS",
      side: "right",
      num: true,
      width: 104,
      text: (l) => (l.take ? `${level(l.take.original_level)} → ${level(l.take.level)}` : ""),
      title: () => "loudness of the original, and of the new one",
    },
    { key: "state", label: "take", width: 88 },
    { key: "author", label: "by", width: 70, text: (l) => l.stream.author, spare: true },
    {
      key: "notes",
      label: "notes",
      width: 90,
      grow: 0.8,
      text: (l) => l.stream.notes,
      title: (l) => l.stream.notes,
      spare: true,
    },
    { key: "file", label: "file", width: 90, grow: 0.6, text: (l) => l.take?.source_name ?? "", spare: true },
    {
      key: "seconds",
      label: "length, s",
      side: "right",
      num: true,
      width: 72,
      text: (l) => clock(l.stream.seconds),
      spare: true,
    },
  ]);
}
