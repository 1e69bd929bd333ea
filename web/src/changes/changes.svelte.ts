/** What changed between two surveys: what the list is asked for, its rows and its columns. */

import { readFrom, parameters, written } from "../lib/address";
import { api, got, type Change, type Changes } from "../lib/api";
import { OF_SURVEYS } from "../lib/cache";
import { Columns } from "../lib/columns.svelte";
import { bytes } from "../lib/format";
import { Rows } from "../lib/rows.svelte";

export interface ChangeQuery {
  /** The numbers of two surveys; null: as usual. */
  old: number | null;
  now: number | null;
  kind: string;
  q: string;
}
export const USUAL: ChangeQuery = { old: null, now: null, kind: "", q: "" };

export const toSearch = (query: ChangeQuery) => written(query, USUAL);
export const fromSearch = (search: string) => readFrom(search, USUAL);
/** The filter alone, as parameters. */
export const filterOf = ({ kind, q }: ChangeQuery) => parameters({ ...USUAL, kind, q }, USUAL);

export class ChangeRows extends Rows<ChangeQuery, Change, Changes> {
  constructor() {
    super(
      [...OF_SURVEYS, "changes"],
      (query, { offset, limit }, signal) =>
        got(
          api.GET("/api/changes/{old}/{new}", {
            params: { path: pathOf(query), query: { ...filterOf(query), offset, limit } },
            signal,
          }),
        ),
      USUAL,
    );
  }

  /** The place of the next change whose file or entry begins with a text. */
  jump = async (text: string, first: number): Promise<number> =>
    (await this.attempt(
      api.GET("/api/changes/{old}/{new}/beginning", {
        params: { path: pathOf(this.query), query: { ...filterOf(this.query), text, first } },
      }),
    )) ?? -1;
}

export const pathOf = ({ old, now }: ChangeQuery) => ({ old: old ?? 0, new: now ?? 0 });

/** What stands before a kind's word. */
export const SIGNS: Record<string, string> = {
  added: "+",
  removed: "−",
  changed: "≠",
  moved: "→",
  renamed: "≈",
  unsure: "?",
};

const size = (n: number | null) => (n === null ? "" : bytes(n));
/** What was called otherwise, or what is to be said of a change. */
export const more = (change: Change) =>
  [change.old_path && `was ${change.old_path}`, change.detail].filter(Boolean).join(" · ");

export const changeColumns = (words: () => Record<string, string>) =>
  new Columns<Change>("changes", () => [
    { key: "kind", label: "change", width: 130, always: true, text: (row) => words()[row.kind] ?? row.kind },
    {
      key: "file",
      label: "file",
      width: 140,
      grow: 1,
      num: true,
      text: (row) => row.file,
      title: (row) => row.file,
      quiet: () => true,
    },
    {
      key: "path",
      label: "entry",
      width: 160,
      grow: 1,
      num: true,
      always: true,
      text: (row) => row.path || "the file itself",
      title: (row) => row.path || row.file,
    },
    {
      key: "more",
      label: "was, or why",
      width: 252,
      grow: 1.6,
      num: true,
      text: more,
      title: more,
      quiet: () => true,
    },
    { key: "old", label: "before", side: "right", num: true, width: 84, text: (row) => size(row.old_size) },
    { key: "new", label: "after", side: "right", num: true, width: 84, text: (row) => size(row.new_size) },
  ]);
