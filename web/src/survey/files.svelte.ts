/** The list of files, or the tree of them. */

import { differs, parameters, readFrom, written } from "../lib/address";
import { api, got, type SurveyFile } from "../lib/api";
import { ofGame } from "../lib/cache";
import { Columns } from "../lib/columns.svelte";
import { bytes, spaced } from "../lib/format";
import { Rows } from "../lib/rows.svelte";

export interface FileQuery {
  q: string;
  /** A folder or a file, with what is in it. */
  below: string;
  what: string[];
  state: string[];
  sort: string;
  /** As a tree, of which these stand open. */
  tree: boolean;
  opened: string[];
  /** The folder that the picture shows. */
  within: string;
  /** In the chosen archive: what its entries are filtered by, their order, and the path of the chosen one. */
  entries: string;
  order: string;
  entry: string;
  /** Whether the key ring is open. */
  keys: boolean;
}
export const ALL_FILES: FileQuery = {
  q: "",
  below: "",
  what: [],
  state: [],
  sort: "path",
  tree: false,
  opened: [],
  within: "",
  entries: "",
  order: "",
  entry: "",
  keys: false,
};
/** What does not change the list of files. */
const ASIDE = ["within", "entries", "order", "entry", "keys"] as const;

export const narrowsFiles = (query: FileQuery) =>
  differs(query, ALL_FILES, ["sort", "tree", "opened", ...ASIDE]);
export const filesToSearch = (query: FileQuery) => written(query, ALL_FILES);
export const filesFromSearch = (search: string) => readFrom(search, ALL_FILES);
/** What of it the list is asked for; all else is as usual. */
export const listed = (query: FileQuery): FileQuery => ({
  ...query,
  ...Object.fromEntries(ASIDE.map((key) => [key, ALL_FILES[key]])),
});

export class FileRows extends Rows<FileQuery, SurveyFile> {
  constructor(private game: number) {
    super(
      ofGame(game, "files"),
      async (query, page, signal) =>
        got(
          api.GET("/api/games/{game_id}/files", {
            params: { path: { game_id: game }, query: { ...parameters(query, ALL_FILES), ...page } },
            signal,
          }),
        ),
      ALL_FILES,
    );
  }

  numbers = async (first: number, last: number): Promise<number[]> =>
    (await this.attempt(
      api.GET("/api/games/{game_id}/file-numbers", { params: this.params({ first, last }) }),
    )) ?? [];

  /** Where a file stands in the list; -1 where it does not. */
  placeOf = (path: string) => this.place({ path });
  /** The place of the next row whose name begins with a text. */
  jump = (begins: string, first: number) => this.place({ begins, first });

  private async place(wanted: { path?: string; begins?: string; first?: number }): Promise<number> {
    const call = api.GET("/api/games/{game_id}/file-place", { params: this.params(wanted) });
    return (await this.attempt(call)) ?? -1;
  }

  private params<W>(wanted: W) {
    return { path: { game_id: this.game }, query: { ...parameters(this.query, ALL_FILES), ...wanted } };
  }
}

export const WORDS: Record<string, string> = {
  archive: "archive",
  sound: "sound",
  locked: "locked",
  unreadable: "can't be read",
  companion: "volume",
  list: "list of sums",
  other: "not recognised",
  folder: "folder",
};

/** What a row is, in words. */
export function whatItIs(row: SurveyFile): string {
  if (row.what === "folder") return `folder · ${spaced(row.count)} ${row.count === 1 ? "file" : "files"}`;
  const name =
    row.what === "locked"
      ? "■ locked"
      : row.error && row.what === "archive"
        ? "archive, in part not read"
        : WORDS[row.what];
  const more = row.belongs_to
    ? ` of ${row.belongs_to.split("/").at(-1)}`
    : row.layout
      ? ` · ${row.layout}`
      : "";
  return name + more;
}

export const isQuiet = (row: SurveyFile) => ["other", "companion", "folder"].includes(row.what);

export const fileColumns = () =>
  new Columns<SurveyFile>("survey", () => [
    {
      key: "path",
      label: "file",
      sort: "path",
      width: 180,
      grow: 1.6,
      always: true,
      title: (row) => row.path,
    },
    {
      key: "what",
      label: "what it is",
      sort: "what",
      width: 150,
      grow: 1,
      text: whatItIs,
      title: (row) => row.evidence,
      quiet: isQuiet,
    },
    ...(["entries", "streams"] as const).map((key) => ({
      key,
      label: key,
      sort: key,
      down: true,
      side: "right" as const,
      num: true,
      width: 72,
      text: (row: SurveyFile) => (row[key] ? spaced(row[key]) : ""),
    })),
    {
      key: "unpacked",
      label: "unpacked",
      sort: "unpacked",
      down: true,
      side: "right",
      num: true,
      width: 84,
      text: (row) => (row.what === "folder" ? "" : bytes(row.unpacked)),
    },
    {
      key: "size",
      label: "on disk",
      sort: "size",
      down: true,
      side: "right",
      num: true,
      width: 84,
      text: (row) => bytes(row.size),
    },
  ]);
