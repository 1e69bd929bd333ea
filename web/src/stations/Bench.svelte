<script lang="ts">
  import { untrack } from "svelte";
  import Aids from "../bench/Aids.svelte";
  import Checked from "../bench/Checked.svelte";
  import Structure from "../bench/Structure.svelte";
  import ByteRibbon from "../components/ByteRibbon.svelte";
  import HexView from "../components/HexView.svelte";
  import LayoutEditor from "../components/LayoutEditor.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import {
    every,
    api,
    attempted,
    got,
    type FieldSpan,
    type LayoutLine,
    type LayoutText,
    type ProblemText,
    type Tried,
  } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, count, spaced } from "../lib/format";
  import { newest } from "../lib/newest";
  import { wordsOf, type Word } from "../lib/words";

  /** The layout bench: a layout's text on one side, a file's bytes on the other, and what the one says of the other. */
  const TABS = ["structure", "entries", "aids", "check"] as const;
  const game_id = app.gameId;
  const path = app.detail;

  let size = $state(0);
  let entropy = $state<number[]>([]);
  let lines = $state<LayoutLine[]>([]);
  let files = $state<string[]>([]);
  let current = $state<LayoutText | null>(null);
  let shown = $state(""); // the text that the editor begins with
  let text = $state("");
  let kept = $state(true);
  let tried = $state<Tried | null>(null);
  let spans = $state<FieldSpan[]>([]);
  let words = $state<Word[]>([]);
  let problem = $state<ProblemText | null>(null);
  let cursor = $state(0);
  let first = $state(0);
  let tab = $state<(typeof TABS)[number]>("structure");
  let checkStarted = $state(0);
  let jump = $state("");
  let editor = $state<LayoutEditor>();

  const here = $derived(spans.find((s) => cursor >= s.at && cursor < s.at + s.length));
  const job = $derived(app.jobs.find((j) => j.id === checkStarted));
  const own = $derived(!!current?.id);

  const attempt = <T,>(work: () => Promise<T>) => attempted(work, (p) => (problem = p));

  const read = async (at: number, length: number) => {
    const answer = await fetch(
      `/api/games/${game_id}/bench/bytes?path=${encodeURIComponent(path)}&at=${at}&length=${length}`,
    );
    return new Uint8Array(await answer.arrayBuffer());
  };
  const q = { path: { game_id }, query: { path } };

  void attempt(async () => {
    const look = await got(api.GET("/api/games/{game_id}/bench/look", { params: q }));
    size = look.size;
    entropy = look.entropy;
    const schema = await got(api.GET("/api/layouts/schema"));
    words = wordsOf(schema as never);
    const listed = await got(
      api.GET("/api/games/{game_id}/files", { params: { path: { game_id }, query: { limit: 500 } } }),
    );
    files = listed.rows.filter((r) => !r.inside).map((r) => r.path);
    await loadLines();
    const line = lines.find((l) => look.layout && l.slug === look.layout);
    const last = Number(localStorage.getItem(`zubret-bench ${path}`));
    if (line) await choose(line);
    else if (last && lines.some((l) => l.id === last)) await choose(lines.find((l) => l.id === last)!);
  });

  async function loadLines() {
    lines = await every((query) => got(api.GET("/api/layouts", { params: { query } })));
  }

  function take(layout: LayoutText) {
    current = layout;
    shown = text = layout.text;
    kept = true;
    if (layout.id) localStorage.setItem(`zubret-bench ${path}`, String(layout.id));
  }

  const choose = (line: LayoutLine) =>
    attempt(async () =>
      take(
        line.id
          ? await got(api.GET("/api/layouts/{layout_id}", { params: { path: { layout_id: line.id } } }))
          : await got(api.GET("/api/layouts/shipped/{slug}", { params: { path: { slug: line.slug } } })),
      ),
    );

  const make = (body: { text: string; name: string }) =>
    attempt(async () => {
      take(await got(api.POST("/api/layouts", { body })));
      await loadLines();
    });

  /** A layout that recognises this file by its first four bytes, and guesses the rest. */
  const begin = () =>
    attempt(async () => {
      const body = { path, text: "", at: 0, length: 0 };
      take(await got(api.POST("/api/games/{game_id}/bench/begin", { params: { path: { game_id } }, body })));
      await loadLines();
    });

  async function bring(e: Event & { currentTarget: HTMLInputElement }) {
    const file = e.currentTarget.files?.[0];
    if (file) await make({ name: file.name.replace(/\.ya?ml$/, ""), text: await file.text() });
    e.currentTarget.value = "";
  }

  function changed(next: string) {
    text = next;
    kept = false;
  }

  // A draft is kept as it is written.
  $effect(() => {
    const wanted = text;
    const layout = current;
    if (!layout?.id || kept) return;
    const timer = setTimeout(
      () =>
        attempt(async () => {
          const path = { layout_id: layout.id };
          const out = await got(
            api.PUT("/api/layouts/{layout_id}", { params: { path }, body: { text: wanted, name: "" } }),
          );
          if (current?.id === out.id && text === wanted) {
            current = { ...out, text: current.text };
            kept = true;
          }
        }),
      500,
    );
    return () => clearTimeout(timer);
  });

  // The view follows the text within a moment.
  $effect(() => {
    const wanted = text;
    if (!wanted) return;
    const timer = setTimeout(
      () =>
        attempt(async () => {
          const body = { path, text: wanted, at: 0, length: 0 };
          const out = await got(
            api.POST("/api/games/{game_id}/bench/try", { params: { path: { game_id } }, body }),
          );
          if (text === wanted) {
            tried = out;
            untrack(() => void askSpans());
          }
        }),
      200,
    );
    return () => clearTimeout(timer);
  });

  const asking = newest();

  async function askSpans() {
    const current = asking();
    if (!tried || tried.fault || tried.problem) {
      spans = [];
      return;
    }
    const body = { path, text, at: Math.max(0, first * 16), length: 2048 };
    try {
      const found = await got(
        api.POST("/api/games/{game_id}/bench/spans", { params: { path: { game_id } }, body }),
      );
      if (current()) spans = found;
    } catch {
      if (current()) spans = [];
    }
  }
  $effect(() => {
    void first;
    const timer = setTimeout(() => untrack(askSpans), 60);
    return () => clearTimeout(timer);
  });

  function goTo(at: number) {
    cursor = Math.max(0, size ? Math.min(size - 1, at) : at); // one may jump before the file's size is known
    first = Math.max(0, Math.floor(cursor / 16) - 4);
  }

  function jumpTo(e: SubmitEvent) {
    e.preventDefault();
    const at = Number(jump.trim().toLowerCase().startsWith("0x") ? jump : jump.replace(/[\s,\u202f]/g, ""));
    if (Number.isFinite(at)) goTo(at);
  }

  const check = (all: boolean) =>
    attempt(async () => {
      const body = { path: all ? "" : path, text, at: 0, length: 0 };
      const started = await got(
        api.POST("/api/games/{game_id}/bench/check", { params: { path: { game_id } }, body }),
      );
      checkStarted = started.id;
      tab = "check";
      app.started(started);
    });

  const save = () =>
    attempt(async () => {
      const layout_id = current!.id;
      await got(
        api.PUT("/api/layouts/{layout_id}", { params: { path: { layout_id } }, body: { text, name: "" } }),
      );
      const out = await got(
        api.POST("/api/layouts/{layout_id}/versions", { params: { path: { layout_id } } }),
      );
      current = { ...out, text: current!.text };
      kept = true;
      await loadLines();
      app.say("Saved. The next survey recognises files by it.", { label: "Survey again", run: surveyAgain });
    });

  async function surveyAgain() {
    await app.attempt(api.POST("/api/games/{game_id}/survey", { params: { path: { game_id } } }));
    app.wake();
  }

  const back = (version_id: number) =>
    attempt(async () =>
      take(await got(api.POST("/api/versions/{version_id}/back", { params: { path: { version_id } } }))),
    );

  const remove = () =>
    attempt(async () => {
      const gone = current!;
      await got(api.DELETE("/api/layouts/{layout_id}", { params: { path: { layout_id: gone.id } } }));
      const undo = { text: gone.text, name: gone.name };
      current = tried = null;
      text = shown = "";
      await loadLines();
      app.say(`The layout ${gone.name} was removed.`, { label: "Undo", run: () => void make(undo) });
    });

  const top = $derived(Math.max(1, ...entropy));
</script>

<div class="flex h-full flex-col px-4 pt-3 pb-2">
  <div class="flex flex-wrap items-end gap-x-3 gap-y-2">
    <div class="min-w-0">
      <h1 class="text-lg leading-tight font-bold">Layout bench</h1>
      <label class="sr-only" for="bench-file">File</label>
      <select
        id="bench-file"
        class="select select-sm num mt-1 w-64"
        value={path}
        onchange={(e) => app.go("bench", e.currentTarget.value)}
      >
        {#if !files.includes(path)}<option value={path}>{path}</option>{/if}
        {#each files as file (file)}<option value={file}>{file}</option>{/each}
      </select>
    </div>
    <label class="block"
      ><span class="sr-only">Layout</span>
      <select
        class="select select-sm w-64"
        value={current ? (current.id ? String(current.id) : current.name) : ""}
        onchange={(e) => {
          const value = e.currentTarget.value;
          const line = lines.find((l) => (l.id ? String(l.id) : l.slug) === value);
          if (line) void choose(line);
        }}
      >
        <option value="" disabled>choose a layout …</option>
        {#each lines as l (l.id ? `own ${l.id}` : l.slug)}
          <option value={l.id ? String(l.id) : l.slug}
            >{l.id ? l.title : `${l.slug} (ships with Zubret)`}</option
          >
        {/each}
      </select></label
    >
    <button class="btn btn-sm" onclick={begin}>New</button>
    <label class="btn btn-sm"
      >Bring in …<input type="file" class="sr-only" accept=".yaml,.yml" onchange={bring} /></label
    >
    {#if current && !own}
      <button class="btn btn-sm" onclick={() => make({ text, name: `${current!.name}, copy` })}
        >Copy to change it</button
      >
    {:else if current}
      <a class="btn btn-sm" href="/api/layouts/{current.id}/file" download>Give out</a>
      {#if current.versions.length > 1}
        <select
          class="select select-sm w-36"
          aria-label="Go back to a version"
          onchange={(e) => back(Number(e.currentTarget.value))}
        >
          <option value="">versions …</option>
          {#each current.versions as v (v.id)}<option value={v.id}
              >{new Date(v.saved).toLocaleString()}</option
            >{/each}
        </select>
      {/if}
      <button class="btn btn-sm" onclick={remove}>Remove</button>
    {/if}
    <span class="ml-auto flex items-center gap-2">
      {#if own}<span class="text-quiet" role="status"
          >{kept ? (current?.saved ? "saved" : "draft kept") : "writing …"}</span
        >{/if}
      {#if current}
        <button class="btn btn-sm" disabled={!!tried?.fault} onclick={() => check(false)}>Check</button>
      {/if}
      {#if own}
        <button class="btn btn-sm btn-primary" disabled={!!tried?.fault || !!current?.saved} onclick={save}
          >Save for surveys</button
        >
      {/if}
      <a class="btn btn-sm" href="#/{game_id}/survey">Survey</a>
    </span>
  </div>
  {#if problem}<div class="mt-2"><ProblemPanel {problem} close={() => (problem = null)} /></div>{/if}
  <div
    class="mt-3 grid min-h-0 grow grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-4 max-lg:grid-cols-1 max-lg:overflow-auto"
  >
    <section
      aria-label="Layout text"
      class="flex min-h-0 flex-col rounded-box border border-line max-lg:h-80"
    >
      {#if current}
        <div class="min-h-0 grow overflow-hidden rounded-t-box">
          {#key shown}
            <LayoutEditor
              bind:this={editor}
              text={shown}
              readonly={!own}
              fault={tried?.fault ?? null}
              {words}
              change={changed}
            />
          {/key}
        </div>
        <div class="border-t border-line px-3 py-2" aria-live="polite">
          {#if tried?.fault}
            <button class="text-left text-error" onclick={() => editor?.goTo(tried!.fault!.line)}
              >■ line {tried.fault.line}: {tried.fault.what}</button
            >
          {:else if tried?.problem}
            <p class="text-error">
              ■ {tried.problem.what}
              <span class="num block text-quiet">{tried.problem.where}</span>
              {#if tried.problem.offset !== null}
                <button class="btn btn-xs mt-1" onclick={() => goTo(tried!.problem!.offset!)}
                  >Go to that byte</button
                >
              {/if}
            </p>
          {:else if tried}
            <p>
              <span class="text-success">✓ reads this file</span>
              <span class="num text-quiet"
                >· {count(tried.items, tried.describes === "bank" ? "stream" : "entry")} · {(
                  tried.explained * 100
                ).toFixed(1)} % explained</span
              >
            </p>
          {:else}<p class="text-quiet">reading …</p>{/if}
        </div>
      {:else}
        <div class="p-5">
          <p>No layout describes this file yet.</p>
          <p class="mt-2 text-quiet">
            Begin a new one: it takes the file's first four bytes as its mark, and you describe the rest
            region by region. The bytes on the right follow as you write.
          </p>
          <button class="btn btn-primary mt-4" onclick={begin}>Begin a new layout</button>
        </div>
      {/if}
    </section>
    <section aria-label="The file" class="flex min-h-0 flex-col max-lg:h-[36rem]">
      <div class="flex items-end gap-4">
        <div class="min-w-0 grow">
          {#if tried?.ribbon}<ByteRibbon
              ribbon={tried.ribbon}
              label={path}
              mark={{ at: cursor, length: Math.max(1, here?.length ?? 1) }}
            />{:else}<p class="num text-quiet">{bytes(size)}</p>{/if}
        </div>
        <form class="flex gap-1" onsubmit={jumpTo}>
          <input
            class="input input-sm num w-32"
            placeholder="byte or 0x…"
            aria-label="Go to byte"
            bind:value={jump}
          />
          <button class="btn btn-sm">Go</button>
        </form>
      </div>
      <div
        class="mt-1 flex h-5 items-end gap-px"
        role="img"
        aria-label="Entropy along the file: low is plain tables and text, full height is packed or encrypted"
        title="entropy: low is plain, full height is packed or encrypted"
      >
        {#each entropy as e, i (i)}
          <span
            class="min-w-0 grow bg-old opacity-70"
            style="height: {Math.max(4, (e / Math.max(8, top)) * 100)}%"
          ></span>
        {/each}
      </div>
      <div class="mt-2 min-h-40 grow rounded-box bg-base-200 py-1">
        {#if size}<HexView {size} {read} {spans} bind:cursor bind:first />{/if}
      </div>
      <p class="num mt-1 h-5 truncate" aria-live="polite">
        byte {spaced(cursor)} · 0x{cursor.toString(16)}
        {#if here}· <strong
            >{here.region}{here.record >= 0 ? ` ${spaced(here.record)}` : ""} · {here.field}</strong
          >
          = {here.value}{here.means ? ` · ${here.means}` : ""}{/if}
      </p>
      <div role="tablist" class="mt-1 flex gap-1 border-b border-line">
        {#each TABS as name (name)}
          <button
            role="tab"
            id="tab-{name}"
            aria-selected={tab === name}
            aria-controls="panel"
            class="px-3 py-1 {tab === name ? 'border-b-2 border-primary font-semibold' : 'text-quiet'}"
            onclick={() => (tab = name)}>{name}</button
          >
        {/each}
      </div>
      <div id="panel" role="tabpanel" aria-labelledby="tab-{tab}" class="h-44 shrink-0 overflow-auto py-2">
        {#if tab === "structure"}
          <Structure {tried} {spans} {here} {goTo} />
        {:else if tab === "entries"}
          <table class="w-full">
            <tbody>
              {#each tried?.sample ?? [] as s, i (i)}
                <tr class="border-b border-line">
                  <td class="num py-0.5 pr-3 break-all"
                    ><button class="text-left" onclick={() => goTo(s.at)}>{s.name}</button></td
                  >
                  <td class="num px-3 text-right text-quiet">byte {spaced(s.at)}</td>
                  <td class="num px-3 text-right">{bytes(s.stored)}</td>
                  <td class="num pl-3 text-quiet">{s.note}</td>
                </tr>
              {:else}<tr
                  ><td class="text-quiet">Entries or streams appear here once the layout finds them.</td></tr
                >{/each}
            </tbody>
          </table>
          {#if (tried?.items ?? 0) > (tried?.sample.length ?? 0)}<p class="text-quiet">
              The first {tried?.sample.length} of {spaced(tried?.items ?? 0)}.
            </p>{/if}
        {:else if tab === "check"}
          <Checked {job} {check} ready={!!current} />
        {/if}
        <!-- always there, so that what was found stays while one looks at another tab -->
        <div hidden={tab !== "aids"}><Aids {path} {size} {cursor} {read} {goTo} {attempt} /></div>
      </div>
    </section>
  </div>
</div>
