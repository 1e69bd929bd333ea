/** A long list of streams, fetched page by page as it comes into view. */

import { api, asProblem, got, type ProblemText, type Stream } from "./api";
import { asked, type Query } from "./query";

const PAGE = 100;

export class StreamList {
  total = $state(0);
  seconds = $state(0);
  bytes = $state(0);
  loading = $state(true);
  problem = $state<ProblemText | null>(null);
  private pages = $state<Record<number, Stream[]>>({});
  private asked = new Set<number>();
  private version = 0;

  constructor(
    private game: number,
    private query: Query,
  ) {}

  /** Begin anew with another question; the first page is fetched at once. False if a newer one has overtaken it. */
  async ask(query: Query): Promise<boolean> {
    const version = ++this.version;
    this.query = query;
    this.asked.clear();
    this.loading = true;
    await this.fetch(0, true);
    return version === this.version;
  }

  at(index: number): Stream | undefined {
    return this.pages[Math.floor(index / PAGE)]?.[index % PAGE];
  }

  /** Fetch what is missing between two rows. */
  show(first: number, last: number): void {
    for (let p = Math.floor(first / PAGE); p <= Math.floor(last / PAGE); p++)
      if (!this.asked.has(p) && p * PAGE < this.total) void this.fetch(p, false);
  }

  /** The row at an index, fetched if need be; none where another question has been asked meanwhile. */
  async need(index: number): Promise<Stream | undefined> {
    const page = Math.floor(index / PAGE);
    const version = this.version;
    if (!this.pages[page]) await this.fetch(page, false);
    return version === this.version ? this.at(index) : undefined;
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

  /** Put a changed stream in the place of the old one. */
  replace(stream: Stream): void {
    for (const page of Object.values(this.pages)) {
      const i = page.findIndex((s) => s.id === stream.id);
      if (i >= 0) page[i] = stream;
    }
  }

  private async fetch(page: number, first: boolean): Promise<void> {
    const version = this.version;
    this.asked.add(page);
    try {
      const found = await got(
        api.GET("/api/games/{game_id}/streams", {
          params: {
            path: { game_id: this.game },
            query: {
              ...asked(this.query),
              offset: page * PAGE,
              limit: PAGE,
            },
          },
        }),
      );
      if (version !== this.version) return;
      if (first) this.pages = {};
      this.pages[page] = found.rows;
      this.total = found.total;
      this.seconds = found.seconds;
      this.bytes = found.bytes;
      this.problem = null;
    } catch (error) {
      this.asked.delete(page);
      if (version === this.version) this.problem = asProblem(error);
    }
    if (version === this.version) this.loading = false;
  }
}
