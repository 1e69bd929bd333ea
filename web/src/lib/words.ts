/** The words of the layout language, from its JSON Schema: for completion and help in the editor. */

export interface Word {
  word: string;
  kind: "key" | "value";
  where: string;
  help: string;
}

interface Node {
  description?: string;
  enum?: unknown[];
  const?: unknown;
  /** Of a text that is not one of a list: those that the language knows. */
  examples?: unknown[];
  properties?: Record<string, Node>;
  anyOf?: Node[];
  items?: Node;
}

function values(node: Node): string[] {
  const own = [
    ...(node.enum ?? []),
    ...(node.examples ?? []),
    ...(node.const === undefined ? [] : [node.const]),
  ];
  return [
    ...own.filter((v): v is string => typeof v === "string"),
    ...(node.anyOf ?? []).flatMap(values),
    ...(node.items ? values(node.items) : []),
  ];
}

type Whole = Node & { $defs?: Record<string, Node> };

/** Of layouts, and of load rules. */
export function wordsOf(schema: { anyOf: [Whole, Whole] }): Word[] {
  const out = new Map<string, Word>();
  const add = (word: string, kind: Word["kind"], where: string, help: string) => {
    const key = `${kind} ${word} ${where}`;
    if (!out.has(key)) out.set(key, { word, kind, where, help });
  };
  const [layout, rules] = schema.anyOf;
  const parts: [string, Node][] = [
    ["layout", layout],
    ["load rules", rules],
    ...Object.entries({ ...layout.$defs, ...rules.$defs }),
  ];
  for (const [name, part] of parts) {
    const where = name
      .replace("Model", "")
      .replace(/([a-z])([A-Z])/g, "$1 $2")
      .toLowerCase();
    for (const [key, node] of Object.entries(part.properties ?? {})) {
      add(key, "key", where, node.description ?? part.description ?? "");
      for (const value of values(node)) add(value, "value", key, "");
    }
  }
  return [...out.values()];
}
