/** A question as the address holds it. What it is as usual tells what it is made of: texts, yes or no, lists, numbers or nothing. */

type Values = Record<string, string | boolean | number | null | string[] | number[]>;

const isUsual = <Q extends object>(query: Q, usual: Q, key: keyof Q) =>
  Array.isArray(query[key]) ? !(query[key] as unknown[]).length : query[key] === usual[key];

const given = <Q extends object>(query: Q, usual: Q) =>
  (Object.keys(usual) as (keyof Q & string)[]).filter((key) => !isUsual(query, usual, key));

/** Whether anything but these is not as usual. */
export function differs<Q extends object>(query: Q, usual: Q, aside: (keyof Q)[]): boolean {
  return given(query, usual).some((key) => !aside.includes(key));
}

/** As parameters of a request: what is as usual is left out. */
export function parameters<Q extends object>(
  query: Q,
  usual: Q,
): Partial<{ [K in keyof Q]: NonNullable<Q[K]> }> {
  return Object.fromEntries(given(query, usual).map((key) => [key, query[key]])) as Partial<{
    [K in keyof Q]: NonNullable<Q[K]>;
  }>;
}

/** As the address holds it: what is as usual is left out. */
export function written<Q extends object>(query: Q, usual: Q): string {
  const pairs = given(query, usual).flatMap((key) => [query[key]].flat().map((v) => [key, String(v)]));
  return new URLSearchParams(pairs).toString();
}

/** What an address asks for; what can't be understood is as usual. numbers: lists of these. */
export function readFrom<Q extends object>(search: string, usual: Q, numbers: (keyof Q)[] = []): Q {
  const asked = new URLSearchParams(search);
  const value = (key: keyof Q & string): Values[string] => {
    const texts = asked.getAll(key);
    const standard = usual[key] as Values[string];
    if (numbers.includes(key)) return texts.map(Number).filter((n) => Number.isInteger(n) && n > 0);
    if (Array.isArray(standard)) return texts;
    if (!texts.length) return standard;
    if (typeof standard === "boolean") return texts[0] === "true";
    if (standard === null) return texts[0] && Number(texts[0]) >= 0 ? Number(texts[0]) : null;
    return texts[0]!;
  };
  return Object.fromEntries(
    (Object.keys(usual) as (keyof Q & string)[]).map((key) => [key, value(key)]),
  ) as Q;
}

/** A list with a value put in, or taken out where it is there. */
export function toggled<T>(values: T[], value: T): T[] {
  return values.includes(value) ? values.filter((other) => other !== value) : [...values, value];
}
