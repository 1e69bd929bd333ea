<script lang="ts">
  import JobPanel from "../components/JobPanel.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import {
    api,
    every,
    asProblem,
    attempted,
    got,
    type Change,
    type ProblemText,
    type SurveyLine,
  } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, spaced } from "../lib/format";
  import { newest } from "../lib/newest";

  /** What changed between two surveys. */
  const PAGE = 200;
  const KINDS: [string, string, string][] = [
    ["added", "added", "+"],
    ["removed", "removed", "−"],
    ["changed", "changed", "≠"],
    ["moved", "moved", "→"],
    ["renamed", "renamed", "≈"],
    ["unsure", "not yet compared", "?"],
  ];
  let surveys = $state<SurveyLine[]>([]);
  let old = $state(0);
  let now = $state(0);
  let kind = $state("");
  let q = $state("");
  let rows = $state<Change[]>([]);
  let total = $state(0);
  let counts = $state<Record<string, number>>({});
  let problem = $state<ProblemText | null>(null);
  let busy = $state(false);
  let made = $state(false);
  let asked = $state({ job: 0, pair: "" }); // the comparison that this screen has begun
  let editing = $state(0);

  const job = $derived(app.openJobs.find((j) => j.kind === "digest"));
  const comparing = $derived(
    asked.pair === `${old} ${now}` ? app.jobs.find((j) => j.id === asked.job) : undefined,
  );
  const running = $derived(comparing?.state === "waiting" || comparing?.state === "running");
  const older = $derived(surveys.find((s) => s.id === old));
  const newer = $derived(surveys.find((s) => s.id === now));

  async function load() {
    try {
      surveys = await every((query) => got(api.GET("/api/surveys", { params: { query } })));
      const mine = surveys.filter((s) => s.game_id === app.gameId);
      if (!surveys.some((s) => s.id === now)) now = mine[0]?.id ?? surveys[0]?.id ?? 0;
      if (!surveys.some((s) => s.id === old)) old = (mine[1] ?? surveys.find((s) => s.id !== now))?.id ?? 0;
    } catch (error) {
      problem = asProblem(error);
    }
  }
  $effect(() => {
    void app.finished;
    void load();
  });

  const asking = newest();

  async function ask(offset: number) {
    const current = asking();
    busy = true;
    try {
      const page = await got(
        api.GET("/api/changes/{old}/{new}", {
          params: { path: { old, new: now }, query: { kind, q, offset, limit: PAGE } },
        }),
      );
      if (!current()) return;
      rows = offset ? [...rows, ...page.rows] : page.rows;
      total = page.total;
      counts = page.counts;
      made = !!page.made;
      problem = null;
      // While contents are being read, each new answer would be out of date at once; what failed is not begun again.
      const wanted = !page.made || (!page.fresh && !job);
      if (wanted && (!comparing || comparing.state === "done")) await compare();
    } catch (error) {
      if (!current()) return;
      problem = asProblem(error);
    }
    busy = false;
  }
  /** Have the two compared; the end of that brings the answer. */
  async function compare() {
    const started = await got(api.POST("/api/changes/{old}/{new}", { params: { path: { old, new: now } } }));
    asked = { job: started.id, pair: `${old} ${now}` };
    app.started(started);
  }

  $effect(() => {
    void [old, now, kind, q, app.finished];
    if (!old || !now || old === now) return;
    const timer = setTimeout(() => void ask(0), 120);
    return () => clearTimeout(timer);
  });

  function label(s: SurveyLine): string {
    const when = new Date(s.finished).toLocaleString([], { dateStyle: "medium", timeStyle: "short" });
    return `${s.game} · ${s.label || (s.build ? `build ${s.build}` : "no label")} · ${when}`;
  }

  async function name(s: SurveyLine, text: string) {
    editing = 0;
    await app.attempt(
      api.PATCH("/api/surveys/{survey_id}", { params: { path: { survey_id: s.id } }, body: { label: text } }),
    );
    await load();
  }
  const size = (n: number | null | undefined) => (n === null || n === undefined ? "" : bytes(n));
</script>

{#snippet picker(title: string, value: number, set: (id: number) => void, chosen: SurveyLine | undefined)}
  <div class="min-w-0 grow">
    <label class="block"
      ><span class="text-quiet">{title}</span>
      <select class="select mt-1 w-full" {value} onchange={(e) => set(Number(e.currentTarget.value))}>
        {#each surveys as s (s.id)}<option value={s.id}>{label(s)}</option>{/each}
      </select></label
    >
    {#if chosen}
      {#if editing === chosen.id}
        <!-- svelte-ignore a11y_autofocus -->
        <input
          class="input input-sm mt-1 w-40"
          aria-label="Label of the {title}"
          autofocus
          value={chosen.label}
          onchange={(e) => name(chosen, e.currentTarget.value)}
          onblur={() => (editing = 0)}
        />
      {:else}
        <button class="btn btn-xs mt-1" onclick={() => (editing = chosen.id)}>Label it</button>
      {/if}
    {/if}
  </div>
{/snippet}

<div class="mx-auto flex h-full max-w-6xl flex-col px-4 py-4">
  <div class="flex items-center gap-3">
    <h1 class="text-xl font-bold">What changed</h1>
    <a class="btn btn-sm ml-auto" href="#/{app.gameId}/survey">Back to Survey</a>
  </div>
  {#if surveys.length < 2}
    <p class="mt-4 text-quiet">
      There is only one survey so far. When the game has been updated, survey it again, then come back: this
      screen tells what the update did to every entry.
    </p>
  {:else}
    <div class="mt-3 flex gap-6 max-md:flex-col">
      {@render picker("before", old, (id) => (old = id), older)}
      {@render picker("after", now, (id) => (now = id), newer)}
    </div>
    {#if old === now}
      <p class="mt-4 text-quiet">These are the same survey: choose two.</p>
    {:else}
      {#if made}
        <div class="mt-4 flex flex-wrap items-end gap-x-5 gap-y-2">
          <div role="group" aria-label="Kind of change" class="flex flex-wrap gap-1.5">
            <button
              class="rounded-full border px-3 py-0.5 {kind === ''
                ? 'border-primary bg-base-300'
                : 'border-line text-quiet'}"
              aria-pressed={kind === ""}
              onclick={() => (kind = "")}
              >all {spaced(Object.values(counts).reduce((a, b) => a + b, 0))}</button
            >
            {#each KINDS as [key, word] (key)}
              {#if counts[key]}
                <button
                  class="rounded-full border px-3 py-0.5 {kind === key
                    ? 'border-primary bg-base-300'
                    : 'border-line text-quiet'}"
                  aria-pressed={kind === key}
                  onclick={() => (kind = key)}>{word} {spaced(counts[key] ?? 0)}</button
                >
              {/if}
            {/each}
          </div>
          <input
            class="input input-sm w-48"
            type="search"
            placeholder="path"
            aria-label="Filter by path"
            bind:value={q}
          />
          <a
            class="btn btn-sm"
            href="/api/changes/{old}/{now}/csv?kind={kind}&q={encodeURIComponent(q)}"
            download>CSV</a
          >
        </div>
      {/if}
      {#if job}
        <p role="status" class="mt-2 text-quiet">
          Contents are still being read in the background ({job.note}); the answer sharpens as they are known.
        </p>
      {:else if counts.unsure}
        <p class="mt-2 text-quiet">
          What is “not yet compared” has the same size on both sides, or is locked on one; its contents were
          not read, or that version is gone.
        </p>
      {/if}
      {#if problem}<div class="mt-3"><ProblemPanel {problem} /></div>{/if}
      {#if comparing && running}
        <div class="mt-3"><JobPanel job={comparing} /></div>
      {:else if comparing && comparing.state !== "done"}
        <div class="mt-3 flex items-center gap-3">
          <p>{comparing.error?.what ?? "Comparing was cancelled."}</p>
          <button class="btn btn-sm" onclick={() => attempted(compare, (p) => (problem = p))}
            >Compare again</button
          >
        </div>
      {/if}
      {#if made}
        <div class="mt-3 min-h-0 grow overflow-auto" aria-busy={busy}>
          <table class="w-full min-w-[640px]" aria-label="Changes">
            <thead class="sticky top-0 bg-base-100">
              <tr class="border-y border-line text-left text-quiet">
                <th class="py-1.5 pr-3 font-normal">change</th>
                <th class="px-3 font-normal">file</th>
                <th class="px-3 font-normal">entry</th>
                <th class="px-3 text-right font-normal">before</th>
                <th class="pl-3 text-right font-normal">after</th>
              </tr>
            </thead>
            <tbody>
              {#each rows as r (r.id)}
                {@const word = KINDS.find(([key]) => key === r.kind)}
                <tr class="border-b border-line align-top">
                  <td class="py-1.5 pr-3 whitespace-nowrap"
                    ><span class="num text-primary" aria-hidden="true">{word?.[2]}</span> {word?.[1]}</td
                  >
                  <td class="num px-3 py-1.5 text-quiet break-all">{r.file}</td>
                  <td class="num px-3 py-1.5 break-all"
                    >{r.path || "the file itself"}{#if r.old_path}<span class="block text-quiet"
                        >was {r.old_path}</span
                      >{/if}{#if r.detail}<span class="block text-quiet">{r.detail}</span>{/if}</td
                  >
                  <td class="num px-3 py-1.5 text-right whitespace-nowrap">{size(r.old_size)}</td>
                  <td class="num py-1.5 pl-3 text-right whitespace-nowrap">{size(r.new_size)}</td>
                </tr>
              {:else}
                {#if !busy && made}<tr
                    ><td colspan="5" class="py-6 text-quiet">Nothing changed that fits the filter.</td></tr
                  >{/if}
              {/each}
            </tbody>
          </table>
          {#if rows.length < total}
            <button class="btn btn-sm mt-3" disabled={busy} onclick={() => ask(rows.length)}
              >Show more of {spaced(total)}</button
            >
          {/if}
        </div>
      {/if}
    {/if}
  {/if}
</div>
