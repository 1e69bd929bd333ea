/** The list of streams. */

import { api, got, type Stream, type StreamPage } from "./api";
import { ofGame } from "./cache";
import { asked, type Query } from "./query";
import { Rows } from "./rows.svelte";

export class StreamRows extends Rows<Query, Stream, StreamPage> {
  constructor(
    private game: number,
    query: Query,
  ) {
    super(
      ofGame(game, "streams", "page"),
      (query, page, signal) =>
        got(
          api.GET("/api/games/{game_id}/streams", {
            params: { path: { game_id: game }, query: { ...asked(query), ...page } },
            signal,
          }),
        ),
      query,
    );
  }

  /** Where a stream stands in the list; -1 where it does not. */
  async placeOf(id: number): Promise<number> {
    const query = { ...asked(this.query), stream_id: id };
    const found = await this.attempt(
      api.GET("/api/games/{game_id}/neighbours", { params: { path: this.path, query } }),
    );
    return found?.place ?? -1;
  }

  /** The numbers of the streams from one place to another. */
  async numbers(first: number, last: number): Promise<number[]> {
    const query = { ...asked(this.query), first, last };
    const found = await this.attempt(
      api.GET("/api/games/{game_id}/stream-numbers", { params: { path: this.path, query } }),
    );
    return found ?? [];
  }

  /** The place of the next stream whose name or id begins with a text, from one place on and round; -1 where there is none. */
  async jump(text: string, from: number): Promise<number> {
    const query = { ...asked(this.query), text, first: from };
    const found = await this.attempt(
      api.GET("/api/games/{game_id}/stream-beginning", { params: { path: this.path, query } }),
    );
    return found ?? -1;
  }

  private get path() {
    return { game_id: this.game };
  }
}
