/** What a list of streams is asked for. */

import { differs, parameters, readFrom, written } from "./address";

type Either = "" | "yes" | "no";

export interface Query {
  q: string;
  /** The path of a folder, an archive, or of a bank in one. */
  within: string;
  /** Paths. */
  archive: string[];
  language: string[];
  kind: string[];
  codec: string[];
  rate: number[];
  channels: number[];
  loop: Either;
  marked: boolean;
  named: Either;
  swapped: Either;
  /** Whether the game reads another file of the same path. */
  beaten: Either;
  /** Whether what is spoken in it is known; whether it is done, as a line. */
  spoken: Either;
  done: Either;
  /** Seconds. */
  shortest: number | null;
  longest: number | null;
  /** Stored bytes. */
  smallest: number | null;
  largest: number | null;
  sort: string;
  /** Whether the banks are listed, with the sums of their streams; and in which order. */
  banks: boolean;
  order: string;
}

export const EVERYTHING: Query = {
  q: "",
  within: "",
  archive: [],
  language: [],
  kind: [],
  codec: [],
  rate: [],
  channels: [],
  loop: "",
  marked: false,
  named: "",
  swapped: "",
  beaten: "",
  spoken: "",
  done: "",
  shortest: null,
  longest: null,
  smallest: null,
  largest: null,
  sort: "archive",
  banks: false,
  order: "",
};

const NUMBERS: (keyof Query)[] = ["rate", "channels"];

/** Whether anything is left out. */
export const narrows = (query: Query) => differs(query, EVERYTHING, ["sort", "banks", "order"]);
/** As the list of streams is asked for. */
export const asked = (query: Query) => parameters({ ...query, banks: false, order: "" }, EVERYTHING);
export const toSearch = (query: Query) => written(query, EVERYTHING);
export const fromSearch = (search: string) => readFrom(search, EVERYTHING, NUMBERS);
