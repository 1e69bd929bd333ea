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
