/** What a list of streams is asked for. */

type Either = "" | "yes" | "no";

export interface Query {
  q: string;
  /** The path of a folder, an archive, or of a bank in one. */
  within: string;
  archive: number[];
  language: string[];
  kind: string[];
  codec: string[];
  rate: number[];
  channels: number[];
  loop: Either;
  marked: boolean;
  named: Either;
  swapped: Either;
  /** Seconds. */
  shortest: number | null;
  longest: number | null;
  /** Stored bytes. */
  smallest: number | null;
  largest: number | null;
  sort: string;
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
  shortest: null,
  longest: null,
  smallest: null,
  largest: null,
  sort: "archive",
};

type Key = keyof Query;
const KEYS = Object.keys(EVERYTHING) as Key[];
const NUMBERS: Key[] = ["archive", "rate", "channels"];
const ENDS: Key[] = ["shortest", "longest", "smallest", "largest"];

const usual = (query: Query, key: Key) =>
  Array.isArray(query[key]) ? !(query[key] as unknown[]).length : query[key] === EVERYTHING[key];

/** Whether anything is left out. */
export function narrows(query: Query): boolean {
  return KEYS.some((key) => key !== "sort" && !usual(query, key));
}

/** As parameters of a request: what is as usual is left out. */
export function asked(query: Query): Partial<{ [K in Key]: NonNullable<Query[K]> }> {
  return Object.fromEntries(KEYS.filter((key) => !usual(query, key)).map((key) => [key, query[key]]));
}

/** As the address holds it: what is as usual is left out. */
export function toSearch(query: Query): string {
  const given = KEYS.filter((key) => !usual(query, key));
  return new URLSearchParams(
    given.flatMap((key) => [query[key]].flat().map((value) => [key, String(value)])),
  ).toString();
}

/** What an address asks for; what can't be understood is as usual. */
export function fromSearch(search: string): Query {
  const given = new URLSearchParams(search);
  const read = (key: Key): unknown => {
    const texts = given.getAll(key);
    const [text = ""] = texts;
    if (NUMBERS.includes(key)) return texts.map(Number).filter((n) => Number.isInteger(n) && n > 0);
    if (Array.isArray(EVERYTHING[key])) return texts;
    if (ENDS.includes(key)) return text && Number(text) >= 0 ? Number(text) : null;
    if (key === "marked") return text === "true";
    if (["loop", "named", "swapped"].includes(key)) return ["yes", "no"].includes(text) ? text : "";
    return text || EVERYTHING[key];
  };
  return Object.fromEntries(KEYS.map((key) => [key, read(key)])) as unknown as Query;
}

/** A list with a value put in, or taken out where it is there. */
export function toggled<T>(values: T[], value: T): T[] {
  return values.includes(value) ? values.filter((other) => other !== value) : [...values, value];
}
