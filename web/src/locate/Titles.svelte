<script lang="ts">
  import { untrack } from "svelte";
  import Modal from "../components/Modal.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { asProblem, upload, type ProblemText, type SayingOut, type TitlesPlan } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { count, spaced } from "../lib/format";
  import { newest } from "../lib/newest";
  import { EVERYTHING, narrows, toSearch, type Query } from "../lib/query";
  import TableOfGame from "./TableOfGame.svelte";

  /** A table of ids with titles or spoken texts says them of streams; the names that were given come out as one. */
  let {
    query,
    named,
    close,
  }: {
    query: Query;
    /** Streams were named. */
    named: (made: SayingOut, text: string) => Promise<void>;
    close: () => void;
  } = $props();
  let modal: Modal;
  /** A file, or an entry of the game: the table. */
  let table = $state.raw<{ name: string; file: File | null; entry: number } | null>(null);
  let looking = $state(false);
  /** By which template ids are written in it. */
  let written = $state("");
  let filtered = $state(false);
  const AS_HEADED = {
    id_column: -1,
    title_column: -1,
    text_column: -1,
    bank_column: -1,
    language_column: -1,
  };
  let columns = $state({ ...AS_HEADED });
  let plan = $state<TitlesPlan | null>(null);
  let problem = $state<ProblemText | null>(null);
  let busy = $state(false);
  const asking = newest();
  const search = $derived(toSearch(filtered ? query : EVERYTHING));
  const address = (what: string) => `/api/games/${app.gameId}/titles${what}?${search}`;
  const wide = $derived(Math.max(0, ...(plan?.rows ?? []).map((row) => row.length)));
  const NONE = -2;
  const SPELLED: Record<string, string> = {
    "\t": "tabs between cells",
    ",": "commas between cells",
    ";": "semicolons between cells",
    "|": "bars between cells",
    "=": "an equals sign between cells",
    "\n": "names whose sums are ids",
  };
  const PARTS = [
    ["id_column", "id"],
    ["title_column", "title"],
    ["text_column", "text"],
    ["bank_column", "bank"],
    ["language_column", "language"],
  ] as const;

  type Part = (typeof PARTS)[number][0];

  /** Say what a column holds; what it held before changes places with that. */
  function assign(column: number, part: Part | "") {
    const used = Object.fromEntries(PARTS.map(([key]) => [key, plan![key]])) as Record<Part, number>;
    const before = PARTS.find(([key]) => used[key] === column)?.[0];
    if (part) {
      if (before) used[before] = used[part];
      used[part] = column;
    } else if (before && before !== "id_column") used[before] = NONE;
    columns = used;
  }

  $effect(() => {
    const [wanted, used, as] = [table, { ...columns }, written];
    void search;
    if (!wanted) return;
    const timer = setTimeout(
      () => void look(wanted, { ...used, written: as }),
      untrack(() => plan) ? 150 : 0,
    );
    return () => clearTimeout(timer);
  });

  async function look(wanted: NonNullable<typeof table>, fields: Record<string, string | number>) {
    const current = asking();
    try {
      const asked = { ...fields, entry: wanted.entry };
      const found = await upload<TitlesPlan>(address("/plan"), wanted.file, asked, () => {});
      if (!current()) return;
      plan = found;
      problem = null;
    } catch (error) {
      if (!current()) return;
      plan = null;
      problem = asProblem(error);
    }
  }

  function give(found: { name: string; file?: File; entry?: number }) {
    columns = { ...AS_HEADED };
    written = "";
    looking = false;
    table = { name: found.name, file: found.file ?? null, entry: found.entry ?? 0 };
  }
  const giveFile = (file: File | undefined) => file && give({ name: file.name, file });

  async function start() {
    if (!table || !plan) return;
    busy = true;
    try {
      const fields = { ...columns, written, entry: table.entry };
      const made = await upload<SayingOut>(address(""), table.file, fields, () => {});
      modal.close();
      await named(made, `${table.name} told of ${count(made.streams, "stream")}.`);
    } catch (error) {
      problem = asProblem(error);
    }
    busy = false;
  }
</script>

<Modal
  bind:this={modal}
  label="Titles and texts"
  width="w-[44rem]"
  onclose={close}
  ondragover={(e) => e.preventDefault()}
  ondrop={(e) => {
    e.preventDefault();
    giveFile(e.dataTransfer?.files[0]);
  }}
>
  <div class="flex items-start justify-between gap-4">
    <div>
      <h2 class="text-lg font-bold">Titles and texts</h2>
      <p class="text-quiet">
        A table with an id on each line, and a title or what is spoken: CSV, TSV or the like, or one that
        stands in the game. Where ids are sums of names, names alone will do.
      </p>
    </div>
    <button class="btn btn-sm" onclick={() => modal.close()}>Close</button>
  </div>
  <div class="mt-3 flex flex-wrap items-center gap-3">
    <label class="btn btn-sm {table ? '' : 'btn-primary'}"
      >{table ? "Another table …" : "Choose a table …"}
      <input
        type="file"
        class="sr-only"
        accept=".csv,.tsv,.txt,text/*"
        onchange={(e) => {
          giveFile(e.currentTarget.files?.[0]);
          e.currentTarget.value = "";
        }}
      /></label
    >
    <button class="btn btn-sm" aria-expanded={looking} onclick={() => (looking = !looking)}
      >One of the game …</button
    >
    <a class="btn btn-sm" href={address("/csv")} download>Give out the names as CSV</a>
    {#if narrows(query)}
      <label class="flex items-center gap-2"
        ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={filtered} /> only what the filter leaves</label
      >
    {/if}
  </div>
  {#if looking}<TableOfGame chosen={(entry) => give({ name: entry.name, entry: entry.id })} />{/if}
  {#if problem}<div class="mt-3"><ProblemPanel {problem} /></div>{/if}
  {#if table && (plan || written)}
    <div class="mt-3 flex flex-wrap items-center justify-between gap-x-4 gap-y-2">
      <p>
        <strong class="num">{table.name}</strong>
        {#if plan}<span class="text-quiet"
            >{count(plan.lines, "line")}, {plan.separator
              ? `${plan.encoding}, ${SPELLED[plan.separator]}`
              : `by the layout ${plan.encoding}`}</span
          >{/if}
      </p>
      <label class="flex items-center gap-2"
        ><span class="text-quiet">ids written as</span>
        <input
          class="input input-sm w-44 font-mono"
          placeholder={"{id}"}
          title={"{id}, {name}, {bank} or {language}, and * for anything: LINE_{id}"}
          bind:value={written}
        /></label
      >
    </div>
  {/if}
  {#if plan && table}
    <div class="mt-2 overflow-auto">
      <table class="w-full" aria-label="The table's first lines">
        <thead>
          <tr>
            {#each { length: wide } as _, i (i)}
              <th class="border-b border-line p-1 text-left font-normal">
                <select
                  class="select select-sm w-full min-w-24"
                  aria-label="Column {i + 1}"
                  value={PARTS.find(([key]) => plan![key] === i)?.[0] ?? ""}
                  onchange={(e) => assign(i, e.currentTarget.value as Part | "")}
                >
                  <option value="">–</option>
                  {#each PARTS as [key, name] (key)}<option value={key}>{name}</option>{/each}
                </select>
              </th>
            {/each}
          </tr>
        </thead>
        <tbody class="num">
          {#each plan.rows as row, i (i)}
            <tr class="border-b border-line {plan.head && !i ? 'text-quiet italic' : ''}">
              {#each { length: wide } as _, k (k)}<td class="max-w-64 truncate p-1">{row[k] ?? ""}</td>{/each}
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    <div role="status">
      <ul class="mt-3 space-y-0.5">
        <li>
          ✓ <strong>{count(plan.streams, "stream")}</strong>: {count(plan.titles, "title")}, {count(
            plan.texts,
            "text",
          )}
        </li>
        {#if plan.shared}<li class="text-quiet">
            {spaced(plan.shared)} of them share their id with one in another bank
          </li>{/if}
        {#if plan.unknown}
          <li>
            ■ {count(plan.unknown, "id")} that no stream has:
            <span class="num text-quiet"
              >{plan.unknown_ids.join(", ")}{plan.unknown > plan.unknown_ids.length ? " …" : ""}</span
            >
          </li>
        {/if}
        {#if plan.doubled}
          <li>
            ■ {count(plan.doubled, "id")} with several titles or texts, of which none is used:
            <span class="num text-quiet"
              >{plan.doubled_ids.join(", ")}{plan.doubled > plan.doubled_ids.length ? " …" : ""}</span
            >
          </li>
        {/if}
      </ul>
    </div>
    <div class="mt-4 flex justify-end">
      <button class="btn btn-primary" disabled={busy || !plan.streams} onclick={start}
        >Take it over for {count(plan.streams, "stream")}</button
      >
    </div>
  {/if}
</Modal>
