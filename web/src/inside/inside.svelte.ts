/** Sounds that were found in what nothing describes. */

import { api, got, type SiftedPage, type SiftedSound } from "../lib/api";
import { ofGame } from "../lib/cache";
import { Columns } from "../lib/columns.svelte";
import { bytes, clock, spaced } from "../lib/format";
import { Rows, type Part } from "../lib/rows.svelte";

export type InsidePart = SiftedPage & Part<SiftedSound>;

export class InsideRows extends Rows<string, SiftedSound, InsidePart> {
  constructor(game: number, path: string) {
    super(
      ofGame(game, "inside", path),
      async (path, { offset, limit }, signal) =>
        got(
          api.GET("/api/games/{game_id}/sounds-inside", {
            params: { path: { game_id: game }, query: { path, offset, limit } },
            signal,
          }),
        ),
      path,
    );
  }
}

export const seconds = (s: SiftedSound) => (s.rate ? s.frames / s.rate : 0);

/** several: of several files, which are told then. */
export const insideColumns = (several: boolean) =>
  new Columns<SiftedSound>("inside", () => [
    { key: "shape", label: "shape", width: 92 },
    ...(several
      ? [
          {
            key: "file",
            label: "file",
            width: 140,
            grow: 1,
            num: true,
            text: (s: SiftedSound) => s.path,
            title: (s: SiftedSound) => s.path,
          },
        ]
      : []),
    {
      key: "at",
      label: "byte",
      width: 110,
      side: "right" as const,
      num: true,
      always: true,
      text: (s: SiftedSound) => spaced(s.at),
      title: (s: SiftedSound) => `0x${s.at.toString(16)}`,
    },
    {
      key: "title",
      label: "what it is",
      width: 120,
      grow: 0.5,
      always: true,
      text: (s: SiftedSound) => s.title,
    },
    {
      key: "length",
      label: "length",
      width: 84,
      side: "right" as const,
      num: true,
      text: (s: SiftedSound) => (s.rate ? clock(seconds(s)) : ""),
    },
    {
      key: "rate",
      label: "rate, Hz",
      width: 64,
      side: "right" as const,
      num: true,
      text: (s: SiftedSound) => (s.rate ? spaced(s.rate) : ""),
    },
    {
      key: "channels",
      label: "ch",
      width: 24,
      side: "right" as const,
      num: true,
      text: (s: SiftedSound) => (s.channels ? String(s.channels) : ""),
    },
    {
      key: "size",
      label: "size",
      width: 84,
      side: "right" as const,
      num: true,
      text: (s: SiftedSound) => bytes(s.length),
    },
    {
      key: "reason",
      label: "what was found right",
      width: 180,
      grow: 1,
      text: (s: SiftedSound) => s.reason,
      title: (s: SiftedSound) => s.reason,
      quiet: () => true,
    },
  ]);
