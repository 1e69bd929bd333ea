<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, asProblem, got, type FoundLoop, type Swap, type Treatment } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { clock } from "../lib/format";
  import { player } from "../lib/player.svelte";

  /** Loops that the file could have: looking for them, what speaks for each, hearing its seam, and taking it over. */
  let { swap, change }: { swap: Swap; change: (steps: Treatment) => Promise<void> } = $props();

  const path = $derived({ swap_id: swap.id });
  const used = $derived([swap.treatment.trim_start, swap.treatment.trim_end]);
  const known = createQuery(() => ({
    queryKey: ofGame(app.gameId, "found loops", swap.id, ...used),
    queryFn: () => got(api.GET("/api/swaps/{swap_id}/loops", { params: { path } })),
    meta: { shown: true },
  }));
  let open = $state(false);
  const begun = $derived(known.data?.job ?? null);
  const job = $derived(app.jobs.find((j) => j.id === begun?.id) ?? begun);
  const looking = $derived(job?.state === "waiting" || job?.state === "running");
  const loops = $derived(known.data?.loops ?? null);
  const problem = $derived(known.error ? asProblem(known.error) : (job?.error ?? null));

  async function look() {
    open = true;
    const begun = await app.attempt(api.POST("/api/swaps/{swap_id}/loops", { params: { path } }));
    if (begun) app.started(begun);
    await known.refetch();
  }

  const taken = (loop: FoundLoop) => swap.loop?.[0] === loop.start && swap.loop[1] === loop.end;

  const take = (loop: FoundLoop) => change({ loop: "points", loop_start: loop.start, loop_end: loop.end });

  /** The file as it is, with a loop that it does not have yet. */
  const tried = (loop: FoundLoop) => ({
    audio: swap.source_audio,
    rate: swap.info!.rate,
    channels: swap.info!.channels,
    frames: swap.info!.frames,
    loop: [loop.start, loop.end],
  });
  const isHeard = (loop: FoundLoop) =>
    player.playing &&
    player.track?.audio === swap.source_audio &&
    player.loop?.join() === tried(loop).loop.join();

  /** From a little before the end, over the seam, and round again. */
  function hear(loop: FoundLoop) {
    if (isHeard(loop)) return player.stop();
    const place = `${swap.source_name}, ${at(loop.start)} – ${at(loop.end)}`;
    player.load({ title: "a loop that was found", place, original: tried(loop), fresh: null });
    player.seam();
  }

  const at = (frame: number) => clock(frame / (swap.info?.rate ?? 1), 2);
  const share = (value: number) => `${Math.round(100 * Math.max(0, value))} %`;
  const step = (value: number) => `${value < 0 ? "−" : "+"}${Math.abs(value).toFixed(1)} dB`;
</script>

<div class={loops === null && !problem ? "" : "basis-full"}>
  {#if looking && job}
    <p role="status" class="flex items-center gap-2 text-quiet">
      <span class="loading loading-spinner loading-sm"></span>
      {job.note || "looking for loops"}{job.total ? `, ${Math.floor((100 * job.done) / job.total)} %` : ""}
      <button class="btn btn-xs" onclick={() => app.cancel(job)}>Cancel</button>
    </p>
  {:else if loops === null}
    <button class="btn btn-sm" disabled={known.isPending} onclick={look}>Look for loops in it</button>
  {:else if !loops.length}
    <p class="text-quiet">
      Nothing in it is heard a second time, so there is no loop to be found. Set its points by hand, or loop
      the whole piece.
    </p>
  {:else}
    <details bind:open>
      <summary class="cursor-pointer py-1">
        {loops.length === 1 ? "One loop was found" : `${loops.length} loops were found`}
      </summary>
      <table class="w-full max-w-4xl" aria-label="Loops that were found">
        <thead>
          <tr class="h-8 border-b border-line text-right text-quiet">
            <th class="pr-3 font-normal">length</th>
            <th class="px-3 text-left font-normal max-md:hidden">bars</th>
            <th class="px-3 font-normal">from</th>
            <th class="px-3 font-normal">to</th>
            <th
              class="px-3 font-normal max-md:hidden"
              title="How like each other the waveforms around both ends are">waveform</th
            >
            <th
              class="px-3 font-normal max-md:hidden"
              title="How like each other both ends sound over two seconds">sound</th
            >
            <th
              class="px-3 font-normal max-md:hidden"
              title="From the level before the end to that behind the start">level step</th
            >
            <th></th>
          </tr>
        </thead>
        <tbody>
          {#each loops as loop (loop.start)}
            <tr class="h-[33px] border-b border-line text-right {taken(loop) ? 'font-semibold' : ''}">
              <td class="num pr-3">{clock(loop.seconds, 2)}</td>
              <td class="num px-3 text-left max-md:hidden">{loop.bars ?? ""}</td>
              <td class="num px-3">{at(loop.start)}</td>
              <td class="num px-3">{at(loop.end)}</td>
              <td class="num px-3 max-md:hidden">{share(loop.waveform)}</td>
              <td class="num px-3 max-md:hidden">{share(loop.spectrum)}</td>
              <td class="num px-3 max-md:hidden">{step(loop.step_db)}</td>
              <td class="w-44 pl-3 whitespace-nowrap">
                <button
                  class="btn btn-xs"
                  aria-label="{isHeard(loop) ? 'Stop' : 'Hear'} the seam of {clock(loop.seconds, 2)} from {at(
                    loop.start,
                  )}"
                  onclick={() => hear(loop)}>{isHeard(loop) ? "■ Stop" : "▶ Hear"}</button
                >
                {#if taken(loop)}
                  <span class="text-success">✓ taken</span>
                {:else}
                  <button
                    class="btn btn-xs"
                    aria-label="Take it: the loop of {clock(loop.seconds, 2)} from {at(loop.start)}"
                    onclick={() => take(loop)}>Take it</button
                  >
                {/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </details>
  {/if}
  {#if problem}<div class="mt-2"><ProblemPanel {problem} /></div>{/if}
</div>
