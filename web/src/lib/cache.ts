/**
 * What the server says, kept once for all screens. A key begins with what it is about ("game", 3) or with a kind of thing
 * ("layouts"), so that whoever changes something can say what is out of date by the beginning of its key.
 */

import { QueryCache, QueryClient, type InvalidateQueryFilters } from "@tanstack/svelte-query";
import { asProblem, AWAY, type Job, type ProblemText } from "./api";

/** Where a question's error is shown, if its screen does not show it itself (`meta: { shown: true }`). */
let tell: (problem: ProblemText) => void = () => {};
export function tellProblems(to: typeof tell): void {
  tell = to;
}

/** Whether something could not be asked, since the server was away. */
let missed = false;

/** A first answer that is on its way while its question goes out of date may be older than the change; the library would take it
 * for new for ever. Here it is out of date as soon as it is there. */
class Cache extends QueryClient {
  override async invalidateQueries(filters: InvalidateQueryFilters = {}, options = {}): Promise<void> {
    const late = this.getQueryCache()
      .findAll({ ...filters, fetchStatus: "fetching" })
      .filter((query) => query.state.data === undefined || !query.isActive());
    const again = late.map(async ({ promise, queryKey }) => {
      await promise?.catch(() => {});
      await super.invalidateQueries({ queryKey, exact: true });
    });
    await Promise.all([super.invalidateQueries(filters, options), ...again]);
  }
}

export const cache = new Cache({
  queryCache: new QueryCache({
    onError: (error, query) => {
      missed ||= error === AWAY;
      if (!query.meta?.shown) tell(asProblem(error));
    },
  }),
  defaultOptions: {
    // What is kept is right until somebody says that it is not.
    queries: { staleTime: Infinity, retry: false, networkMode: "always" },
  },
});

/** What belongs to a game: ask for it with these first words, and all of it can be renewed at once. */
export const ofGame = (game: number, ...more: unknown[]) => ["game", game, ...more];

/** What is known of surveys, of all games. */
export const OF_SURVEYS = ["surveys"];

/** A job has ended: what it may have changed is asked for anew where it is in view, else when it comes into view. */
export function ended(job: Job): void {
  if (job.kind === "tidy") return;
  void cache.invalidateQueries({ queryKey: job.game_id ? ofGame(job.game_id) : [] });
  void cache.invalidateQueries({ queryKey: OF_SURVEYS });
}

/** The server answers: what could not be asked before, however short it was away, is asked now. */
export function answers(): void {
  if (!missed) return;
  missed = false;
  void cache.refetchQueries({ predicate: (query) => query.state.status === "error", type: "active" });
}
