<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { untrack } from "svelte";
  import { api, asProblem, got, type Job, type Same, type Stream } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { cache, ofGame } from "../lib/cache";
  import { bytes, clock, count, spaced } from "../lib/format";
  import { KINDS } from "../lib/items";
  import type { Said } from "../lib/streams.svelte";
  import ProblemPanel from "./ProblemPanel.svelte";
  import SaveAs from "./SaveAs.svelte";

  /** What is measured of a stream, where else it stands, and what a person says of it. */
  let { stream, give }: { stream: Stream; give: (what: Said) => Promise<void> } = $props();
  let same = $state<{ found: Same[]; left: number } | null>(null);

  // Its figures. A long stream that was not measured yet is measured by a job, which is gone from all jobs at its end.
  const id = $derived(stream.id);
  const path = $derived({ stream_id: id });
  const known = createQuery(() => ({
    queryKey: ofGame(app.gameId, "figures", id),
    queryFn: () => got(api.GET("/api/streams/{stream_id}/figures", { params: { path } })),
    meta: { shown: true },
  }));
  const measuring = createQuery(() => ({
    queryKey: ["measuring", id],
    queryFn: () => measure(id),
    enabled: known.data === null,
    gcTime: 0,
    meta: { shown: true },
  }));
  const figures = $derived(known.data ?? null);
  const begun = $derived(measuring.data ?? null);
  const job = $derived(app.jobs.find((j) => j.id === begun?.id) ?? begun);
  const share = $derived(job?.total ? `${Math.floor((100 * job.done) / job.total)} %` : "");
  const problem = $derived.by(() => {
    const error = known.error ?? measuring.error;
    if (error) return asProblem(error);
    if (figures || !job?.finished || job.state === "done") return null;
    return job.error ?? { what: "Measuring was cancelled.", where: "", next: "Open the stream again." };
  });

  async function measure(stream_id: number): Promise<Job | null> {
    const params = { path: { stream_id } };
    const answer = await got(api.POST("/api/streams/{stream_id}/figures", { params }));
    if (answer.figures) cache.setQueryData(ofGame(app.gameId, "figures", stream_id), answer.figures);
    if (answer.job) app.started(answer.job);
    return answer.job ?? null;
  }

  $effect(() => {
    if (known.data === null && begun && !app.jobs.some((j) => j.id === begun.id)) void known.refetch();
  });
  $effect(() => {
    const now = id;
    untrack(() => {
      same = null;
      void lookElsewhere(now);
    });
  });

  /** What is the same, answer by answer, until all of nearly the same length were compared. */
  async function lookElsewhere(stream_id: number) {
    const found: Same[] = [];
    let after = 0;
    do {
      const params = { path: { stream_id }, query: { after } };
      const page = await got(api.GET("/api/streams/{stream_id}/same", { params })).catch(() => null);
      if (!page || stream_id !== stream.id) return;
      found.push(...page.found);
      same = { found: [...found], left: page.total - page.done };
      after = page.done;
    } while (same.left > 0);
  }

  const shown = $derived(stream.kind_given ? stream.kind : (figures?.kind ?? stream.kind));
  const level = (value: number, unit: string) =>
    value <= -200 ? "silence" : `${value.toFixed(1).replace("-", "−")} ${unit}`;
  const facts = $derived<[string, string, string][]>([
    ["length", clock(stream.seconds), `${spaced(stream.frames)} frames`],
    [
      "rate",
      `${spaced(stream.rate)} Hz`,
      stream.channels === 1 ? "1 channel" : `${stream.channels} channels`,
    ],
    ["codec", stream.codec, stream.block_frames > 1 ? `${spaced(stream.block_frames)} frames a block` : ""],
    ["stored", bytes(stream.stored), `from byte ${spaced(stream.at)}`],
  ]);
  const measured = $derived<[string, string, string][]>(
    figures
      ? [
          [
            "loudness",
            figures.loudness === null ? "too short or silent" : level(figures.loudness, "LUFS"),
            "integrated",
          ],
          ["range", figures.range === null ? "shorter than 3 s" : `${figures.range.toFixed(1)} LU`, ""],
          ["true peak", level(figures.true_peak, "dBTP"), `samples ${level(figures.peak, "dBFS")}`],
          ["offset", `${(figures.dc * 100).toFixed(2)} %`, "of full scale"],
          [
            "silence",
            `${clock(figures.head / stream.rate)} + ${clock(figures.tail / stream.rate)}`,
            "at head and tail",
          ],
          [
            "decoded",
            `${spaced(figures.frames)} frames`,
            figures.frames === stream.frames ? "as the bank says" : "not what the bank says",
          ],
        ]
      : [],
  );
</script>

<aside
  aria-label="The stream's figures"
  class="flex w-[318px] shrink-0 flex-col gap-3 overflow-auto border-l border-line bg-base-200 p-4 max-lg:w-full"
>
  <dl>
    {#each [...facts, ...measured] as [name, value, more] (name)}
      <div class="grid grid-cols-[70px_1fr] border-t border-line py-1 last:border-b">
        <dt class="text-quiet">{name}</dt>
        <dd class="min-w-0">
          <span class="num">{value}</span>
          {#if more}<span class="break-words text-quiet"> · {more}</span>{/if}
        </dd>
      </div>
    {/each}
  </dl>
  {#if problem}<ProblemPanel {problem} />{:else if !figures}<p class="text-quiet">Measuring … {share}</p>{/if}
  <div>
    <div role="group" aria-label="Kind" class="flex items-center gap-1.5">
      <span class="w-[70px] text-quiet">kind</span>
      {#each KINDS as kind (kind)}
        <button
          class="btn btn-xs {shown === kind ? 'border-primary! font-semibold' : ''}"
          aria-pressed={shown === kind}
          onclick={() => give({ kind: stream.kind_given && stream.kind === kind ? "" : kind })}>{kind}</button
        >
      {/each}
    </div>
    <p class="mt-1 text-quiet">
      {stream.kind_given
        ? "your choice; press it again for the guess"
        : figures
          ? `a guess: ${figures.reasons.join(", ")}`
          : ""}
    </p>
  </div>
  <div>
    <h2 class="text-quiet">The same elsewhere</h2>
    {#if same?.found.length}
      <ul class="mt-1">
        {#each same.found.slice(0, 8) as s (s.stream.id)}
          <li class="flex justify-between gap-2 py-0.5">
            <a class="truncate underline" href="#/{app.gameId}/stream/s{s.stream.id}" title={s.stream.place}
              >{s.stream.name || `${s.stream.bank} ${s.stream.stream_id}`}</a
            >
            <span class="shrink-0 text-quiet"
              >{s.how === "payload" ? "the same bytes" : "the same sound"}</span
            >
          </li>
        {/each}
      </ul>
      {#if same.found.length > 8}<p class="text-quiet">and {same.found.length - 8} more</p>{/if}
    {:else if same && !same.left}<p class="mt-1">Nowhere else in this game.</p>{/if}
    {#if !same}<p class="mt-1">Looking …</p>
    {:else if same.left > 0}<p class="mt-1 text-quiet">
        Looking … {count(same.left, "stream")} of nearly this length left.
      </p>{/if}
  </div>
  <label class="block"
    ><span class="text-quiet">Notes</span>
    {#key stream.id}
      <textarea
        class="textarea mt-1 h-16 w-full"
        maxlength="5000"
        value={stream.notes}
        onchange={(e) => give({ notes: e.currentTarget.value })}></textarea>
    {/key}</label
  >
  <div
    class="sticky -bottom-4 -mx-4 mt-auto -mb-4 flex flex-col gap-2 border-t border-line bg-base-200 p-4 pt-3"
  >
    <SaveAs
      {stream}
      kinds={[
        ["wav", "WAV"],
        ["flac", "FLAC"],
        ["ogg", "Ogg"],
        ["opus", "Opus"],
        ...(stream.as_stored ? [["stored", "as stored"] as const] : []),
      ]}
    />
    <button class="btn btn-primary" onclick={() => app.go("swap", `s${stream.id}`)}>Swap this stream</button>
  </div>
</aside>
