/** Streams: one, and the list of them. */

import type { QueryKey } from "@tanstack/svelte-query";
import { api, got, type Stream, type StreamPage } from "./api";
import { cache, ofGame } from "./cache";
import { asked, type Query } from "./query";
import { Rows, type Fetch, type Part } from "./rows.svelte";

export const streamOf = (game: number, id: number) => ({
  queryKey: ofGame(game, "streams", "one", id),
  queryFn: () => got(api.GET("/api/streams/{stream_id}", { params: { path: { stream_id: id } } })),
});

/** What a person says of one stream. */
export interface Said {
  name?: string;
  marked?: boolean;
  kind?: string;
  notes?: string;
  text?: string;
  author?: string;
  done?: boolean;
}

/** Say something of a stream; gives it as it is then. Pages of lists are the caller's to change or to ask anew. */
export async function say(game: number, id: number, what: Said): Promise<Stream> {
  const params = { path: { stream_id: id } };
  const changed = await got(api.PATCH("/api/streams/{stream_id}", { params, body: what }));
  cache.setQueryData(streamOf(game, id).queryKey, changed);
  return changed;
}

export const pagesOf = (game: number) => ofGame(game, "streams", "page");

/** A list of streams, whatever else its rows tell. */
export class OfStreams<T, P extends Part<T>> extends Rows<Query, T, P> {
  constructor(
    protected game: number,
    key: QueryKey,
    fetch: Fetch<Query, T, P>,
    query: Query,
  ) {
    super(key, fetch, query);
  }

  /** Where a stream stands in the list; -1 where it does not. */
  async placeOf(id: number): Promise<number> {
    const query = { ...asked(this.query), stream_id: id };
    const found = await this.attempt(
      api.GET("/api/games/{game_id}/neighbours", { params: { path: this.path, query } }),
    );
    return found?.place ?? -1;
  }

  /** The numbers of the streams from one place to another; all, where no last is given. */
  async numbers(first: number, last?: number): Promise<number[]> {
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

/** Streams as Locate lists them. */
export class StreamRows extends OfStreams<Stream, StreamPage> {
  constructor(game: number, query: Query) {
    const path = { game_id: game };
    const fetch: Fetch<Query, Stream, StreamPage> = (query, page, signal) =>
      got(
        api.GET("/api/games/{game_id}/streams", {
          params: { path, query: { ...asked(query), ...page } },
          signal,
        }),
      );
    super(game, pagesOf(game), fetch, query);
  }
}
