/** A list that is shown from its beginning on, with some more of it at each press. */

import { createInfiniteQuery, type QueryKey } from "@tanstack/svelte-query";

interface Page<T> {
  rows: T[];
  total: number;
}

interface Asked<P> {
  key: QueryKey;
  /** The rows from one place on; null where there is no such list. */
  ask: (offset: number) => Promise<P | null>;
}

/** Made while a component is. What is kept is asked for anew when its screen is opened. */
export function growing<T, P extends Page<T> = Page<T>>(asked: () => Asked<P>) {
  const found = createInfiniteQuery(() => {
    const { key, ask } = asked();
    return {
      queryKey: key,
      queryFn: ({ pageParam }: { pageParam: number }) => ask(pageParam),
      initialPageParam: 0,
      getNextPageParam: (_last: P | null, pages: (P | null)[]) => {
        const shown = pages.reduce((sum, page) => sum + (page?.rows.length ?? 0), 0);
        return shown < (pages[0]?.total ?? 0) ? shown : undefined;
      },
      staleTime: 0,
      meta: { shown: true },
    };
  });
  return {
    get rows(): T[] {
      return found.data?.pages.flatMap((page) => page?.rows ?? []) ?? [];
    },
    get total(): number {
      return found.data?.pages[0]?.total ?? 0;
    },
    /** The first answer, with what it says beside its rows. */
    get first(): P | null | undefined {
      return found.data?.pages[0];
    },
    get none(): boolean {
      return found.data?.pages[0] === null;
    },
    /** Changes with each answer. */
    get answered(): number {
      return found.dataUpdatedAt;
    },
    get settled(): boolean {
      return !found.isPending && !found.isFetching;
    },
    get error(): Error | null {
      return found.error;
    },
    more: () => void found.fetchNextPage(),
  };
}
