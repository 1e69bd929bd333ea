/** What the bench's address holds: the byte at the cursor, the open tab, the layout. */

import { readFrom, written } from "../lib/address";

export const TABS = ["structure", "entries", "aids", "check"] as const;
export type Tab = (typeof TABS)[number];

export interface BenchQuery {
  at: number | null;
  tab: string;
  layout: string;
}
const USUAL: BenchQuery = { at: null, tab: TABS[0], layout: "" };

export const toSearch = (query: BenchQuery) => written(query, USUAL);
export function fromSearch(search: string): BenchQuery & { tab: Tab } {
  const query = readFrom(search, USUAL);
  return { ...query, tab: TABS.find((tab) => tab === query.tab) ?? TABS[0] };
}
