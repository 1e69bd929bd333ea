<script lang="ts">
  import { untrack } from "svelte";
  import Comb from "../components/Comb.svelte";
  import JobPanel from "../components/JobPanel.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, attempted, got, type Job, type ProblemText, type SiftedSound } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, clock, count, duration, spaced } from "../lib/format";
  import { player } from "../lib/player.svelte";
  import { insideColumns, InsideRows, seconds } from "../inside/inside.svelte";
  import { Choice } from "../list/choice.svelte";
  import List from "../list/List.svelte";

  /** What is in here? Sounds in a file that nothing describes, or in all of them, by signature and validation. */
  const game_id = app.gameId;
  const path = app.detail;
  const params = { path: { game_id } };
  /** How often the list is asked anew while it grows, in ms. */
  const AGAIN = 700;

  const rows = new InsideRows(game_id, path);
  const columns = insideColumns(!path);
  let list = $state<ReturnType<typeof List<SiftedSound>>>();
  let failed = $state<ProblemText | null>(null);
  let begun = $state<Job | null>(null);
  let packed = $state(0);

  const choice = new Choice<SiftedSound>(
    rows,
    (row) => row.id,
    async () => [],
    (row) => show(row, false),
  );

  const known = $derived(rows.head?.job ?? null);
  const last = $derived(begun && (!known || begun.id > known.id) ? begun : known);
  /** The look's job as it is now. */
  const job = $derived(app.jobs.find((j) => j.id === last?.id) ?? last);
  const running = $derived(!!job && (job.state === "waiting" || job.state === "running"));
  const out = $derived(app.jobs.find((j) => j.id === packed));
  const head = $derived(rows.head);
  const current = $derived(choice.at >= 0 ? rows.at(choice.at) : undefined);
  const result = $derived((job?.state === "done" ? job.result : {}) as { failed?: number; problem?: string });

  const attempt = <T,>(work: () => Promise<T>) => attempted(work, (p) => (failed = p));

  // The list as it is; a look that is going on is asked again and again, and once more when it has ended.
  $effect(() => {
    const on = running;
    untrack(() => void rows.ask(path));
    if (!on) return;
    const timer = setInterval(() => void rows.ask(path), AGAIN);
    return () => clearInterval(timer);
  });

  async function look() {
    failed = null;
    choice.at = -1;
    const started = await attempt(() =>
      got(api.POST("/api/games/{game_id}/sounds-inside", { params, body: { path } })),
    );
    if (!started) return;
    begun = started;
    app.started(started);
  }

  async function takeOut() {
    const started = await attempt(() =>
      got(api.POST("/api/games/{game_id}/sounds-inside/take-out", { params, body: { path } })),
    );
    if (!started) return;
    packed = started.id;
    app.started(started);
  }

  function show(row: SiftedSound, play: boolean) {
    if (!row.audio) return;
    player.load({
      title: `${row.path.split("/").at(-1)}, byte ${spaced(row.at)}`,
      place: `${row.path} · ${row.title}`,
      original: { audio: row.audio, rate: row.rate, channels: row.channels, frames: row.frames, loop: null },
      fresh: null,
    });
    if (play) void player.start(0);
  }

  async function draft() {
    const made = await attempt(() =>
      got(api.POST("/api/games/{game_id}/sounds-inside/draft", { params, body: { path } })),
    );
    if (!made) return;
    localStorage.setItem(`zubret-bench ${path}`, String(made.id));
    app.go("bench", path);
  }
</script>

{#snippet shape(s: SiftedSound)}{#if s.audio}<Comb audio={s.audio} />{/if}{/snippet}
{#snippet narrow(s: SiftedSound)}
  <div class="flex items-baseline gap-2">
    <span class="num min-w-0 grow truncate">{path ? `byte ${spaced(s.at)}` : s.path}</span>
    <span class="num shrink-0">{s.rate ? clock(seconds(s), 1) : ""}</span>
  </div>
  <div class="truncate text-quiet">{s.title} · {bytes(s.length)}</div>
{/snippet}

<section class="flex h-full min-h-0 flex-col gap-2 px-4 pt-3 max-md:px-3" aria-label="What is in here?">
  <div class="flex flex-wrap items-center justify-between gap-x-3 gap-y-1">
    <div class="flex min-w-0 items-baseline gap-3">
      <h1 class="shrink-0 text-xl font-bold">What is in here?</h1>
      <p class="num truncate text-quiet" title={path}>{path || "all files that nothing describes"}</p>
    </div>
    <div class="flex flex-wrap gap-2">
      {#if path}
        <a class="btn btn-sm" href="#/{game_id}/bench/{encodeURIComponent(path)}">Look at its bytes</a>
      {/if}
      {#if rows.total && !running}
        {#if path}<button class="btn btn-sm" onclick={draft}>Write a layout from their places</button>{/if}
        <button
          class="btn btn-sm"
          disabled={out && ["waiting", "running"].includes(out.state)}
          onclick={takeOut}>Take all out as a ZIP</button
        >
      {/if}
      <button class="btn btn-sm {job ? '' : 'btn-primary'}" disabled={running} onclick={look}
        >{job ? "Look again" : path ? "Look through it" : "Look through all of them"}</button
      >
    </div>
  </div>
  {#if failed}<ProblemPanel problem={failed} close={() => (failed = null)} />{/if}
  {#if rows.problem}<ProblemPanel problem={rows.problem} />{/if}
  {#if job && running}<JobPanel {job} sized={!!path} />
  {:else if job?.error}<ProblemPanel problem={job.error} />{/if}
  {#if out && ["waiting", "running"].includes(out.state)}<JobPanel job={out} sized />
  {:else if out?.error}<ProblemPanel problem={out.error} />
  {:else if out?.state === "done"}
    <p>
      <strong class="text-success">✓ {count(Number(out.result.files), "sound")} put into a ZIP file</strong>
      <a class="btn btn-sm btn-primary ml-2" href="/api/jobs/{out.id}/file" download
        >Download {out.result.download}</a
      >
    </p>
  {/if}
  {#if head && job}
    <p class="num" role="status">
      <strong>{count(head.total, "sound")}</strong>
      {#if head.total}· {bytes(head.bytes)} · {duration(head.seconds)} to be heard{/if}
      {#if head.size}<span class="text-quiet"
          >· {path ? "" : `${count(head.files, "file")}, `}{bytes(head.size)} looked through</span
        >{/if}
      {#if result.failed}<span class="block text-quiet"
          >{count(result.failed, "file")} could not be read, first {result.problem}</span
        >{/if}
    </p>
  {/if}
  {#if head && (rows.total || running)}
    <div class="flex min-h-0 grow gap-4">
      <div class="flex min-h-0 min-w-0 grow flex-col">
        <List
          bind:this={list}
          label="Sounds found"
          {columns}
          {choice}
          many={false}
          cells={{ shape }}
          {narrow}
          open={(row) => show(row, true)}
        >
          {#snippet empty()}Nothing yet.{/snippet}
        </List>
      </div>
    </div>
    <div class="flex min-h-12 flex-wrap items-center gap-3 border-t border-line py-2">
      {#if current}
        <span class="min-w-0 grow">
          <strong>{current.title}</strong>, bytes <span class="num">{spaced(current.at)}</span> to
          <span class="num">{spaced(current.at + current.length)}</span>: {current.reason}.
          {#if !current.audio}<span class="block text-quiet"
              >Zubret can't play this kind; it can be taken out as it is.</span
            >{/if}
        </span>
        {#if current.audio}<button class="btn btn-sm btn-primary" onclick={() => show(current, true)}
            >Play</button
          >{/if}
        <a class="btn btn-sm" href="/api/games/{game_id}/sounds-inside/{current.id}" download>Take it out</a>
        <a class="btn btn-sm" href="#/{game_id}/bench/{encodeURIComponent(current.path)}?at={current.at}"
          >Look at its bytes</a
        >
      {:else}<span class="text-quiet">Choose a sound; Enter plays it.</span>{/if}
    </div>
  {:else if head && job && !running}
    <p class="mt-6 max-w-prose">
      No sound that begins with a signature and holds was found. What is packed or locked, or has no head of
      its own, can't be found so: {#if path}<a
          class="underline"
          href="#/{game_id}/unknown/{encodeURIComponent(path)}">listen to its bytes</a
        >, or describe them on the bench.{:else}listen to a file's bytes from the Survey, or describe it on
        the bench.{/if}
    </p>
  {:else if head}
    <p class="mt-6 max-w-prose text-quiet">
      Looks for sounds by their signature and believes them only where all of it is right: a WAV file whose
      chunks add up, Ogg pages with their checksums, FLAC frames, chains of MPEG audio and AAC, MIDI, modules.
      Nothing is changed.
    </p>
  {/if}
</section>
