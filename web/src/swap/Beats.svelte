<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, asProblem, got, type Swap, type Treatment } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import NumberStep from "./NumberStep.svelte";

  /** A loop of the original at the same beats of the file: how much longer a beat of it is. */
  let { swap, change }: { swap: Swap; change: (steps: Treatment) => Promise<void> } = $props();

  const path = $derived({ swap_id: swap.id });
  const used = $derived([swap.treatment.trim_start, swap.treatment.trim_end]);
  const known = createQuery(() => ({
    queryKey: ofGame(app.gameId, "beats", swap.id, ...used),
    queryFn: () => got(api.GET("/api/swaps/{swap_id}/beats", { params: { path } })),
    meta: { shown: true },
  }));
  const begun = $derived(known.data?.job ?? null);
  const job = $derived(app.jobs.find((j) => j.id === begun?.id) ?? begun);
  const measuring = $derived(job?.state === "waiting" || job?.state === "running");
  const beats = $derived(job?.state === "done" ? known.data : null);
  const problem = $derived(known.error ? asProblem(known.error) : (job?.error ?? null));
  /** Of two beats of which one may have been counted twice as fast, the ratio that is nearer to 1. */
  const scale = $derived.by(() => {
    if (!beats?.original || !beats.new) return null;
    let ratio = beats.new / beats.original;
    while (ratio > Math.SQRT2) ratio /= 2;
    while (ratio < Math.SQRT1_2) ratio *= 2;
    return Math.round(ratio * 10_000) / 10_000;
  });

  $effect(() => {
    if (job?.state === "done" && known.data?.job?.state !== "done") void known.refetch();
  });

  async function measure() {
    const begun = await app.attempt(api.POST("/api/swaps/{swap_id}/beats", { params: { path } }));
    if (begun) app.started(begun);
    await known.refetch();
  }
  const told = (beat: number | null) => (beat ? `${(60 / beat).toFixed(1)} a minute` : "none that is steady");
</script>

<NumberStep
  label="a beat lasts"
  unit="× the original’s"
  value={swap.treatment.loop_scale}
  from={0.25}
  to={4}
  by={0.001}
  hint="1: at the same times. Else at the same beats, of a piece that is slower or faster."
  set={(loop_scale) => change({ loop_scale })}
/>
{#if measuring && job}
  <p role="status" class="flex items-center gap-2 text-quiet">
    <span class="loading loading-spinner loading-sm"></span>
    {job.note || "listening to the beats"}
    <button class="btn btn-xs" onclick={() => app.cancel(job)}>Cancel</button>
  </p>
{:else if beats}
  <p class="flex flex-wrap items-center gap-2" role="status">
    <span class="text-quiet"
      >beats: original <span class="num">{told(beats.original)}</span>, new
      <span class="num">{told(beats.new)}</span></span
    >
    {#if scale !== null && scale !== swap.treatment.loop_scale}
      <button class="btn btn-sm" onclick={() => change({ loop_scale: scale })}
        >Set <span class="num">{scale}</span></button
      >
    {/if}
  </p>
{:else}
  <button class="btn btn-sm" disabled={known.isPending} onclick={measure}>Measure the beats</button>
{/if}
{#if problem}<div class="basis-full"><ProblemPanel {problem} /></div>{/if}
