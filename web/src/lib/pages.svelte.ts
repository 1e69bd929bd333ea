/** A long list, fetched page by page as it comes into view. */

import { asProblem, type ProblemText } from "./api";

const PAGE = 100;
/** A list that is scrolled fast is asked for what it shows only once it has paused so long, in ms. */
const PAUSE = 60;

export interface Part<T> {
  /** How many there are of all; null where that was not asked for. */
  total: number | null;
  rows: T[];
}
export type Fetch<Q, T, P extends Part<T>> = (
  query: Q,
  page: { offset: number; limit: number; totals: boolean },
  signal: AbortSignal,
) => Promise<P>;

export class Pages<Q, T, P extends Part<T> = Part<T>> {
  total = $state(0);
  loading = $state(true);
  problem = $state<ProblemText | null>(null);
  private pages = $state<Record<number, T[]>>({});
  private asked = new Map<number, AbortController>();
  private version = 0;
  private timer = 0;

  constructor(
    private fetchPart: Fetch<Q, T, P>,
    protected query: Q,
  ) {}

  /** Begin anew with another question; the first page is fetched at once. False if a newer one has overtaken it. */
  async ask(query: Q): Promise<boolean> {
    const version = ++this.version;
    this.query = query;
    this.drop(() => true);
    this.loading = true;
    await this.fetch(0, true);
    return version === this.version;
  }

  at(index: number): T | undefined {
    return this.pages[Math.floor(index / PAGE)]?.[index % PAGE];
  }

  /** Fetch what is missing between two rows, after a pause; what is not in view any more is not waited for. */
  show(first: number, last: number): void {
    const from = Math.floor(Math.max(0, first) / PAGE);
    const to = Math.floor(Math.min(last, this.total - 1) / PAGE);
    clearTimeout(this.timer);
    this.timer = window.setTimeout(() => {
      this.drop((page) => page < from || page > to);
      for (let page = from; page <= to; page++)
        if (!this.asked.has(page) && !this.pages[page]) void this.fetch(page, false);
    }, PAUSE);
  }

  /** The row at an index, fetched if need be; none where another question has been asked meanwhile. */
  async need(index: number): Promise<T | undefined> {
    const page = Math.floor(index / PAGE);
    const version = this.version;
    if (!this.pages[page]) await this.fetch(page, false);
    return version === this.version ? this.at(index) : undefined;
  }

  /** Put a changed row in the place of the old one. */
  replace(row: T, same: (other: T) => boolean): void {
    for (const page of Object.values(this.pages)) {
      const i = page.findIndex(same);
      if (i >= 0) page[i] = row;
    }
  }

  /** What the first page tells beside its rows. */
  protected counted(_part: P): void {}

  private drop(which: (page: number) => boolean): void {
    for (const [page, request] of this.asked)
      if (which(page)) {
        request.abort();
        this.asked.delete(page);
      }
  }

  private async fetch(page: number, first: boolean): Promise<void> {
    const version = this.version;
    const request = new AbortController();
    this.asked.set(page, request);
    try {
      const wanted = { offset: page * PAGE, limit: PAGE, totals: first };
      const found = await this.fetchPart(this.query, wanted, request.signal);
      if (version !== this.version) return;
      if (first) this.pages = {};
      this.pages[page] = found.rows;
      if (found.total !== null) {
        this.total = found.total;
        this.counted(found);
      }
      this.problem = null;
    } catch (error) {
      if (version === this.version && !request.signal.aborted) this.problem = asProblem(error);
    }
    if (this.asked.get(page) === request) this.asked.delete(page);
    if (version === this.version) this.loading = false;
  }
}
