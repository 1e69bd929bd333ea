/** Streams by their banks: the rows of that list, and its columns. */

import { api, got, type Group, type GroupPage } from "../lib/api";
import { ofGame } from "../lib/cache";
import { Columns } from "../lib/columns.svelte";
import { bytes, duration, spaced } from "../lib/format";
import { asked, type Query } from "../lib/query";
import { Rows } from "../lib/rows.svelte";

const params = (query: Query) => ({ ...asked(query), sort: query.order });

export class GroupRows extends Rows<Query, Group, GroupPage> {
  constructor(
    private game: number,
    query: Query,
  ) {
    super(
      ofGame(game, "streams", "groups"),
      (query, { offset, limit }, signal) =>
        got(
          api.GET("/api/games/{game_id}/groups", {
            params: { path: { game_id: game }, query: { ...params(query), offset, limit } },
            signal,
          }),
        ),
      query,
    );
  }

  /** The place of the next group whose name begins with a text. */
  jump = async (text: string, first: number): Promise<number> =>
    (await this.attempt(
      api.GET("/api/games/{game_id}/group-beginning", {
        params: { path: { game_id: this.game }, query: { ...params(this.query), text, first } },
      }),
    )) ?? -1;
}

export const groupName = (group: Group) =>
  group.name || (group.what === "folder" ? "the game's folder" : group.place.split("/").at(-1)!);

export const groupColumns = () =>
  new Columns<Group>("banks", () => [
    {
      key: "name",
      label: "bank or folder",
      sort: "name",
      width: 120,
      grow: 1,
      always: true,
      text: (g) => `${g.what === "folder" ? "▤" : "♪"} ${groupName(g)}`,
      title: (g) => `${g.what} ${g.place}`,
    },
    {
      key: "within",
      label: "in",
      sort: "within",
      width: 100,
      grow: 1,
      text: (g) => g.within || "/",
      title: (g) => g.within,
      quiet: () => true,
    },
    { key: "language", label: "language", sort: "language", width: 84, text: (g) => g.language || "–" },
    {
      key: "streams",
      label: "streams",
      sort: "streams",
      down: true,
      side: "right",
      num: true,
      width: 76,
      text: (g) => spaced(g.streams),
    },
    {
      key: "looped",
      label: "with a loop",
      sort: "looped",
      down: true,
      side: "right",
      num: true,
      width: 92,
      text: (g) => (g.looped ? spaced(g.looped) : "–"),
    },
    {
      key: "length",
      label: "length",
      sort: "length",
      down: true,
      side: "right",
      num: true,
      width: 100,
      text: (g) => duration(g.seconds),
    },
    {
      key: "size",
      label: "stored",
      sort: "size",
      down: true,
      side: "right",
      num: true,
      width: 84,
      text: (g) => bytes(g.bytes),
    },
  ]);
