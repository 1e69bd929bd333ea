/** The list of streams. */

import { api, asProblem, got, type Stream, type StreamPage } from "./api";
import { Pages } from "./pages.svelte";
import { asked, type Query } from "./query";

export class StreamList extends Pages<Query, Stream, StreamPage> {
  seconds = $state(0);
  bytes = $state(0);

  constructor(
    private game: number,
    query: Query,
  ) {
    super(
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

  protected override counted(part: StreamPage): void {
    this.seconds = part.seconds ?? 0;
    this.bytes = part.bytes ?? 0;
  }

  /** Where a stream stands in the list; -1 where it does not. */
  async placeOf(id: number): Promise<number> {
    const query = { ...asked(this.query), stream_id: id };
    try {
      const path = { game_id: this.game };
      return (await got(api.GET("/api/games/{game_id}/neighbours", { params: { path, query } }))).place;
    } catch (error) {
      this.problem = asProblem(error);
      return -1;
    }
  }
}
