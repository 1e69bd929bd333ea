/** A long list, fetched page by page as it comes into view, and kept in the cache. */

import { CancelledError, QueryObserver, type QueryKey } from "@tanstack/svelte-query";
import { asProblem, attempted, got, type ProblemText } from "./api";
import { cache } from "./cache";

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

export class Rows<Q, T, P extends Part<T> = Part<T>> {
  total = $state(0);
  loading = $state(true);
  problem = $state<ProblemText | null>(null);
  /** The first page, with what it tells beside its rows. */
  head = $state.raw<P | null>(null);
  private pages = $state.raw<Record<number, T[]>>({});
  private watched = new Map<number, () => void>();
  private version = 0;
  private timer = 0;
  private view: [number, number] = [0, 0];
  private asking: QueryKey | null = null;

  /** Made while a component is: its pages are watched as long as that one lives. */
  constructor(
    private key: QueryKey,
    private fetchPart: Fetch<Q, T, P>,
    protected query: Q,
  ) {
    $effect(() => () => {
      this.version++;
      clearTimeout(this.timer);
      this.unwatch(() => true);
    });
  }

  /** Begin with another question; what was found stays until its first page is there. False if a newer one has overtaken it. */
  async ask(query: Q): Promise<boolean> {
    const version = ++this.version;
    this.loading = true;
    if (this.asking) void cache.cancelQueries({ queryKey: this.asking, exact: true }, { silent: true });
    const first = this.how(query, 0);
    this.asking = first.queryKey;
    try {
      await cache.fetchQuery(first);
    } catch (error) {
      if (version === this.version) {
        this.problem = asProblem(error);
        this.loading = false;
      }
    }
    if (version !== this.version) return false;
    this.asking = null;
    this.unwatch(() => true);
    this.query = query;
    this.pages = {};
    this.watch(0);
    this.show(...this.view);
    this.loading = false;
    return true;
  }

  at(index: number): T | undefined {
    return this.pages[Math.floor(index / PAGE)]?.[index % PAGE];
  }

  /** Fetch what is missing between two rows, after a pause; what is not in view any more is not waited for. */
  show(first: number, last: number): void {
    this.view = [first, last];
    const from = Math.floor(Math.max(0, first) / PAGE);
    const to = Math.floor(Math.max(0, Math.min(last, this.total - 1)) / PAGE);
    clearTimeout(this.timer);
    this.timer = window.setTimeout(() => {
      this.unwatch((page) => page && (page < from || page > to));
      for (let page = from; page <= to; page++) this.watch(page);
    }, PAUSE);
  }

  /** The row at an index, fetched where it is not at hand; none where another question has been asked meanwhile. */
  async need(index: number): Promise<T | undefined> {
    const version = this.version;
    const page = Math.floor(index / PAGE);
    while (version === this.version) {
      const here = this.watched.has(page) ? this.at(index) : undefined;
      if (here) return here;
      try {
        const { rows } = await cache.fetchQuery(this.how(this.query, page));
        return version === this.version ? rows[index % PAGE] : undefined;
      } catch (error) {
        if (error instanceof CancelledError) continue; // a newer fetch of the same page has begun
        if (version === this.version) this.problem = asProblem(error);
        return undefined;
      }
    }
    return undefined;
  }

  /** Put changed rows in the place of the old ones, wherever they are kept; what is not in view is asked for anew when it comes
   * into view. What is in view is not: an answer on its way may be older than the change. */
  change(changed: (row: T) => T): void {
    cache.setQueriesData<P>(
      { queryKey: this.key },
      (part) => part && { ...part, rows: part.rows.map(changed) },
    );
    void cache.invalidateQueries({
      queryKey: this.key,
      predicate: (query) => !query.isActive(),
      refetchType: "none",
    });
  }

  /** What a call gives; its error is shown beside the rows. */
  protected attempt<R>(call: Promise<{ data?: R }>): Promise<R | undefined> {
    return attempted(
      () => got(call),
      (problem) => (this.problem = problem),
    );
  }

  private how(query: Q, page: number) {
    return {
      queryKey: [...this.key, query, page],
      queryFn: ({ signal }: { signal: AbortSignal }) =>
        this.fetchPart(query, { offset: page * PAGE, limit: PAGE, totals: !page }, signal),
      meta: { shown: true },
    };
  }

  private watch(page: number): void {
    if (this.watched.has(page)) return;
    const observer = new QueryObserver<P>(cache, this.how(this.query, page));
    const take = ({ data, error }: { data?: P; error: Error | null }) => {
      this.problem = error ? asProblem(error) : null;
      if (!data) return;
      this.pages = { ...this.pages, [page]: data.rows };
      if (data.total === null) return;
      this.total = data.total;
      if (!page) this.head = data;
    };
    this.watched.set(page, observer.subscribe(take));
    take(observer.getCurrentResult());
  }

  private unwatch(which: (page: number) => unknown): void {
    for (const [page, stop] of this.watched)
      if (which(page)) {
        stop();
        this.watched.delete(page);
      }
  }
}
