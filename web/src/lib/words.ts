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
  properties?: Record<string, Node>;
  anyOf?: Node[];
  items?: Node;
}

function values(node: Node): string[] {
  const own = [...(node.enum ?? []), ...(node.const === undefined ? [] : [node.const])];
  return [
    ...own.filter((v): v is string => typeof v === "string"),
    ...(node.anyOf ?? []).flatMap(values),
    ...(node.items ? values(node.items) : []),
  ];
}

/** Meanings are texts in the schema, since regions and files have names of their own. */
const MEANINGS = [
  "entries.count",
  "streams.count",
  "payload.at",
  "file.size",
  "bank.name",
  "bank.language",
  ...["path", "name", "folder", "id", "at", "end", "stored", "size", "method", "volume", "head"].map(
    (m) => `entry.${m}`,
  ),
  ...["id", "name", "at", "end", "stored", "size", "codec", "rate", "channels", "block_size", "frames"].map(
    (m) => `stream.${m}`,
  ),
  ...["looped", "loop_start", "loop_end", "volume", "head"].map((m) => `stream.${m}`),
  ...["name", "parent", "first", "count"].map((m) => `folder.${m}`),
  "listed.path",
  "listed.size",
];

export function wordsOf(schema: Node & { $defs?: Record<string, Node> }): Word[] {
  const out = new Map<string, Word>();
  const add = (word: string, kind: Word["kind"], where: string, help: string) => {
    const key = `${kind} ${word} ${where}`;
    if (!out.has(key)) out.set(key, { word, kind, where, help });
  };
  const parts: [string, Node][] = [["layout", schema], ...Object.entries(schema.$defs ?? {})];
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
  for (const word of MEANINGS) add(word, "value", "means", "");
  return [...out.values()];
}
