/** The list of an archive's entries. */

import { api, got, type Entry } from "../lib/api";
import { ofGame } from "../lib/cache";
import { Columns } from "../lib/columns.svelte";
import { bytes } from "../lib/format";
import { Rows } from "../lib/rows.svelte";

export interface EntryQuery {
  archive: number;
  q: string;
  sort: string;
}
export const SORTS: [string, string][] = [
  ["", "as the table has them"],
  ["path", "by path"],
  ["-size", "the largest first"],
  ["at", "by their place"],
];

export class EntryRows extends Rows<EntryQuery, Entry> {
  constructor(
    private game: number,
    archive: number,
  ) {
    super(
      ofGame(game, "entries"),
      async (query, page, signal) =>
        got(
          api.GET("/api/games/{game_id}/entries", {
            params: { path: this.path, query: { ...query, ...page } },
            signal,
          }),
        ),
      { archive, q: "", sort: "" },
    );
  }

  numbers = async (first: number, last: number): Promise<number[]> =>
    (await this.attempt(
      api.GET("/api/games/{game_id}/entry-numbers", {
        params: { path: this.path, query: { ...this.query, first, last } },
      }),
    )) ?? [];

  /** The place of the next entry whose path or name begins with a text. */
  jump = async (text: string, first: number): Promise<number> =>
    (await this.attempt(
      api.GET("/api/games/{game_id}/entry-beginning", {
        params: { path: this.path, query: { ...this.query, text, first } },
      }),
    )) ?? -1;

  private get path() {
    return { game_id: this.game };
  }
}

/** How an entry is stored, and in which volume where it has one. */
export const storedAs = (entry: Entry) =>
  entry.method + (entry.file ? `, ${entry.file.split(".").at(-1)}` : "");

export const entryColumns = () =>
  new Columns<Entry>("entries", () => [
    {
      key: "path",
      label: "entry",
      sort: "path",
      width: 180,
      grow: 1,
      always: true,
      num: true,
      title: (e) => e.path,
      text: (e) => e.path,
    },
    {
      key: "size",
      label: "size",
      sort: "size",
      down: true,
      side: "right",
      num: true,
      width: 84,
      text: (e) => bytes(e.size),
    },
    { key: "method", label: "stored as", width: 110, text: storedAs },
  ]);
