/** What a list of streams is asked for. */

export interface Query {
  q: string;
  archive: number;
  language: string;
  kind: string;
  loop: string;
  marked: boolean;
  shortest: number | null;
  longest: number | null;
  sort: string;
}

export const EVERYTHING: Query = {
  q: "",
  archive: 0,
  language: "",
  kind: "",
  loop: "",
  marked: false,
  shortest: null,
  longest: null,
  sort: "archive",
};

/** Whether anything is left out. */
export function narrows(query: Query): boolean {
  return (Object.keys(EVERYTHING) as (keyof Query)[]).some((k) => k !== "sort" && query[k] !== EVERYTHING[k]);
}

/** As parameters of a request: open ends are left out. */
export function asked(query: Query) {
  const { shortest, longest, ...rest } = query;
  return {
    ...rest,
    ...(shortest === null ? {} : { shortest }),
    ...(longest === null ? {} : { longest }),
  };
}

/** As the address holds it: what is as usual is left out. */
export function toSearch(query: Query): string {
  const given = Object.entries(query).filter(([k, v]) => v !== EVERYTHING[k as keyof Query] && v !== null);
  return new URLSearchParams(given.map(([k, v]) => [k, String(v)])).toString();
}

/** What an address asks for; what can't be understood is as usual. */
export function fromSearch(search: string): Query {
  const asked = new URLSearchParams(search);
  const text = (key: "q" | "language" | "kind" | "loop" | "sort") => asked.get(key) ?? EVERYTHING[key];
  const number = (key: string) =>
    asked.has(key) && Number(asked.get(key)) >= 0 ? Number(asked.get(key)) : null;
  return {
    q: text("q"),
    archive: number("archive") ?? 0,
    language: text("language"),
    kind: text("kind"),
    loop: text("loop"),
    marked: asked.get("marked") === "true",
    shortest: number("shortest"),
    longest: number("longest"),
    sort: text("sort"),
  };
}
