<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { untrack } from "svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, asProblem, attempted, got, type Judged, type Judgement, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { cache, ofGame } from "../lib/cache";
  import { count, spaced } from "../lib/format";
  import { growing } from "../lib/growing.svelte";
  import { itemOf } from "../lib/items";
  import { player } from "../lib/player.svelte";
  import { streamOf } from "../lib/streams.svelte";

  /** How a mod stands in the build that the newest survey saw, and carrying it over. */
  let { mod, name }: { mod: number; name: string } = $props();

  const game_id = app.gameId;
  const path = $derived({ mod_id: mod });
  const SIGNS: Record<string, string> = { same: "✓", moved: "→", changed: "≠", format: "◆", gone: "■" };
  let verdict = $state("");
  let left = $state(false);
  let problem = $state<ProblemText | null>(null);
  let begun = $state(0);
  let carried = $state(0);

  const ask = (offset: number, limit: number): Promise<Judgement> =>
    got(
      api.GET("/api/mods/{mod_id}/judgement", { params: { path, query: { verdict, left, offset, limit } } }),
    );
  const found = createQuery(() => ({
    queryKey: ofGame(game_id, "judgement", mod),
    queryFn: () => ask(0, 1),
    staleTime: 0,
    meta: { shown: true },
  }));
  const rows = growing<Judged>(() => ({
    key: ofGame(game_id, "judgement", mod, "rows", verdict, left),
    ask: (offset) => ask(offset, 100),
  }));
  const told = $derived(found.data);
  const job = $derived(app.openJobs.find((j) => j.kind === "judge" || j.kind === "carry"));
  const last = $derived(app.jobs.find((j) => j.id === begun));
  const moving = $derived(app.jobs.find((j) => j.id === carried));
  const safe = $derived(told?.verdicts.filter((v) => v.safe).reduce((sum, v) => sum + v.open, 0) ?? 0);
  const todo = $derived(told?.verdicts.filter((v) => !v.safe).reduce((sum, v) => sum + v.open, 0) ?? 0);

  const attempt = (what: () => Promise<void>) => attempted(what, (error) => (problem = error));
  async function renew() {
    await cache.invalidateQueries({ queryKey: ofGame(game_id) });
    void app.refreshRoute();
  }
  const judge = () =>
    attempt(async () => {
      const started = await got(api.POST("/api/mods/{mod_id}/judgement", { params: { path } }));
      begun = started.id;
      app.started(started);
    });
  async function carry(body: { safe: boolean; rows: number[] }) {
    await attempt(async () => {
      const started = await got(api.POST("/api/mods/{mod_id}/carry", { params: { path }, body }));
      carried = started.id;
      app.started(started);
    });
  }
  const back = (rows: number[]) =>
    attempt(async () =>
      app.started(await got(api.POST("/api/mods/{mod_id}/carry/back", { params: { path }, body: { rows } }))),
    );
  // The end of a job has everything of the game asked for anew; here only what can be undone is said.
  $effect(() => {
    if (moving?.id !== carried || moving.state !== "done") return;
    const { rows, taken } = moving.result as { rows: number[]; taken: number };
    const stay = taken ? ` ${spaced(taken)} stay: the mod has another swap where they stand now.` : "";
    untrack(() => {
      carried = 0;
      app.say(`${spaced(rows.length)} carried over.${stay}`, { label: "Undo", run: () => void back(rows) });
      void app.refreshRoute();
    });
  });
  const remove = (row: Judged) =>
    attempt(async () => {
      const swap = { path: { swap_id: row.swap ?? 0 } };
      const file = { path: { file_id: row.file ?? 0 } };
      await (row.swap
        ? got(api.DELETE("/api/swaps/{swap_id}", { params: { ...swap, query: { all_takes: true } } }))
        : got(api.DELETE("/api/files/{file_id}", { params: file })));
      await renew();
      const restore = async () => {
        await (row.swap
          ? got(api.POST("/api/swaps/{swap_id}/restore", { params: swap }))
          : got(api.POST("/api/files/{file_id}/restore", { params: file })));
        await renew();
      };
      app.say(`${row.source_name} is no longer in the mod.`, {
        label: "Undo",
        run: () => void attempt(restore),
      });
    });
  const hear = (game: number, stream: number) =>
    attempt(async () => {
      player.load(itemOf(await cache.fetchQuery(streamOf(game, stream))));
      await player.start(0);
    });
</script>

<div class="mx-auto max-w-6xl space-y-5 px-4 py-4">
  <div class="flex flex-wrap items-start justify-between gap-x-6 gap-y-3">
    <div class="min-w-64 flex-1">
      <a class="text-quiet underline" href="#/{game_id}/mods">Mods</a>
      <h1 class="text-xl font-bold">{name} in this build</h1>
      <p class="text-balance text-quiet">
        Each stream that the mod swaps and each entry that it replaces is looked for in the newest survey of {app
          .game!.name}{app.game!.build ? `, build ${app.game!.build}` : ""}: by its place, its id, and its
        contents.
      </p>
    </div>
    <div class="flex flex-wrap items-center gap-2">
      {#if told && !job}
        <button class="btn {told.fresh ? '' : 'btn-primary'}" onclick={judge}
          >{told.made ? "Judge again" : "Judge it"}</button
        >
        {#if told.fresh && safe}
          <button class="btn btn-primary" onclick={() => carry({ safe: true, rows: [] })}
            >Carry over {spaced(safe)} that are safe</button
          >
        {/if}
      {/if}
    </div>
  </div>
  {#if problem}<ProblemPanel {problem} close={() => (problem = null)} />{/if}
  {#if found.error}<ProblemPanel problem={asProblem(found.error)} />{/if}
  {#if last?.error}<ProblemPanel problem={last.error} />{/if}
  {#if moving?.error}<ProblemPanel problem={moving.error} />{/if}
  {#if job}<JobPanel {job} />{/if}

  {#if told && !told.made}
    <p role="status">
      {told.lost
        ? `${count(told.lost, "stream")} of this mod ${told.lost === 1 ? "is" : "are"} not where the mod knows ${told.lost === 1 ? "it" : "them"}. Judge the mod to see what became of them.`
        : "Every stream of this mod is where it was. Judging tells whether it is still the same sound."}
    </p>
  {:else if told}
    <p role="status">
      {#if !told.fresh}The game was surveyed again since this was judged.
      {:else if safe}Carry over what is safe first{todo ? `; then ${spaced(todo)} are left to look at` : ""}.
      {:else if todo}{spaced(todo)} are left to look at.
      {:else}✓ The whole mod stands in this build. <a class="underline" href="#/{game_id}/rebuild"
          >Go to Rebuild</a
        >{/if}
    </p>
    <div class="flex flex-wrap items-center gap-2" role="group" aria-label="Verdicts">
      {#each [{ verdict: "", label: "all", rows: told.verdicts.reduce((sum, v) => sum + v.rows, 0) }, ...told.verdicts] as v (v.verdict)}
        <button
          class="rounded-full border px-3 py-0.5 {verdict === v.verdict
            ? 'border-primary bg-base-300'
            : 'border-line text-quiet'}"
          aria-pressed={verdict === v.verdict}
          onclick={() => (verdict = v.verdict)}
          >{SIGNS[v.verdict] ?? ""}
          {v.label} <span class="num">{spaced(v.rows)}</span></button
        >
      {/each}
      <label class="ml-auto flex items-center gap-2">
        <input type="checkbox" class="checkbox checkbox-sm" bind:checked={left} /> only what is left to do
      </label>
    </div>
    <ul aria-label="What became of it">
      {#each rows.rows as row (row.id)}
        <li class="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-line py-2">
          <span class="w-40 {row.verdict === 'gone' ? 'text-error' : ''}"
            ><span class="num text-primary" aria-hidden="true">{SIGNS[row.verdict]}</span>
            {row.label}</span
          >
          <span class="min-w-64 grow basis-80">
            <span class="num block break-all">{row.place}</span>
            <span class="text-quiet"
              >{row.detail ? `${row.detail} · ` : ""}{#if row.swap}<a
                  class="underline"
                  href="#/{game_id}/swap/{row.swap}">{row.source_name}</a
                >{:else}{row.source_name}{/if}</span
            >
          </span>
          <span class="flex flex-wrap items-center justify-end gap-2">
            {#if row.old && row.old_game}
              <button
                class="btn btn-sm"
                aria-label="Hear it as it was: {row.place}"
                onclick={() => hear(row.old_game!, row.old!)}>as it was</button
              >
            {/if}
            {#if row.now}
              <button
                class="btn btn-sm"
                aria-label="Hear it as it is now: {row.place}"
                onclick={() => hear(game_id, row.now!)}>as it is now</button
              >
            {/if}
            {#if row.carried}<span class="w-28 text-success">✓ carried over</span>
            {:else if !row.open}<span class="w-28 text-success">✓ stands</span>
            {:else if row.verdict === "gone"}
              <button class="btn btn-sm w-28" aria-label="Remove {row.place}" onclick={() => remove(row)}
                >Remove</button
              >
            {:else}
              <button
                class="btn btn-sm w-28"
                aria-label="Carry over {row.place}"
                disabled={!told.fresh}
                onclick={() => carry({ safe: false, rows: [row.id] })}>Carry over</button
              >
            {/if}
          </span>
        </li>
      {:else}
        <li class="py-2 text-quiet">{rows.settled ? "None of these." : "Loading …"}</li>
      {/each}
    </ul>
    {#if rows.rows.length < rows.total}
      <button class="btn btn-sm" onclick={rows.more}
        >Show more ({spaced(rows.rows.length)} of {spaced(rows.total)})</button
      >
    {/if}
  {/if}
</div>
