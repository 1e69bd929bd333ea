<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { untrack } from "svelte";
  import { api, got, type FoundLoop, type Swap, type Treatment } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { player } from "../lib/player.svelte";
  import { SEAM } from "./lanes";
  import { inTurn } from "./swaps";

  /** The seam of a loop to the sample: both sides over each other, its numbers, and moving its ends while it is heard. */
  let { swap, block, change }: { swap: Swap; block: number; change: (steps: Treatment) => Promise<void> } =
    $props();

  const HEIGHT = 96;
  const path = $derived({ swap_id: swap.id });
  const seam = createQuery(() => ({
    queryKey: ofGame(app.gameId, "seam", swap.id, swap.new?.audio),
    queryFn: () => got(api.GET("/api/swaps/{swap_id}/seam", { params: { path } })),
    enabled: !!swap.new?.loop,
    placeholderData: (before) => before,
    meta: { shown: true },
  }));
  // A beat is known where loops of whole bars were found.
  const used = $derived([swap.treatment.trim_start, swap.treatment.trim_end]);
  const known = createQuery(() => ({
    queryKey: ofGame(app.gameId, "found loops", swap.id, ...used),
    queryFn: () => got(api.GET("/api/swaps/{swap_id}/loops", { params: { path } })),
    meta: { shown: true },
  }));
  const beat = $derived.by(() => {
    const found = known.data?.loops?.find((l: FoundLoop) => l.bars);
    return found?.bars ? found.seconds / found.bars / 4 : null;
  });

  const found = $derived(seam.data);
  const old = $derived(seam.isPlaceholderData || !swap.new || !found);
  let width = $state(600);
  const line = (values: number[], from: number, count: number, top: number) =>
    values.length
      ? "M" +
        values
          .map((v, i) => `${(((from + i) / (count - 1)) * width).toFixed(1)} ${(HEIGHT / 2) * (1 - v / top)}`)
          .join("L")
      : "";
  const top = $derived(
    Math.max(0.02, ...(found?.heard ?? []).map(Math.abs), ...(found?.goes_on ?? []).map(Math.abs)),
  );

  /** Where it is now, prepared or not: moving on need not wait. */
  const stored = $derived(swap.becomes);
  const loop = $derived((stored?.loop ?? null) as [number, number] | null);
  const ways = $derived(
    [
      { key: "frame", label: "frame", frames: 1 },
      { key: "block", label: "block", frames: block > 1 ? block : 0 },
      { key: "beat", label: "beat", frames: beat && stored ? Math.round(beat * stored.rate) : 0 },
    ].filter((w) => w.frames),
  );

  const turn = inTurn();
  /** Move an end by some frames, or to one. */
  const move = (edge: 0 | 1, by: number, to?: number) =>
    turn(() => {
      if (!loop || !stored) return;
      const next: [number, number] = [...loop];
      next[edge] = Math.max(0, Math.min(stored.frames, to ?? next[edge] + by));
      return next[0] < next[1] ? change({ new_loop: next }) : undefined;
    });

  // Heard again and again: from three seconds before the seam to three behind it.
  let again = $state(false);
  $effect(() => {
    if (!again || !swap.new) return;
    const { audio, rate } = swap.new;
    const reach = Math.min(
      SEAM,
      untrack(() => (loop ? (loop[1] - loop[0]) / rate : SEAM)),
    );
    const hear = () => player.track?.audio === audio && player.seam();
    untrack(() => player.change("new"));
    const first = setTimeout(hear, 50);
    const timer = setInterval(hear, reach * 2000);
    return () => {
      clearTimeout(first);
      clearInterval(timer);
    };
  });
  $effect(() => () => untrack(() => again && player.stop()));

  const decibels = (v: number) => `${v < 0 ? "−" : "+"}${Math.abs(v).toFixed(1)} dB`;
  const verdict = $derived.by(() => {
    if (!found) return "";
    const heard = [
      ...(found.click_db > 6 ? ["a click"] : []),
      ...(Math.abs(found.step_db) > 1.5 ? ["a step in level"] : []),
      ...(found.spectrum_db > found.usual_db + 6 ? ["another sound"] : []),
    ];
    return heard.length ? `■ ${heard.join(", ")} may be heard` : "✓ nothing stands out";
  });
</script>

<div class="mt-2 flex flex-wrap gap-x-6 gap-y-2 {old ? 'opacity-60' : ''}" role="group" aria-label="Seam">
  <div class="min-w-64 grow basis-96 overflow-hidden rounded-box bg-base-200" bind:clientWidth={width}>
    <svg
      {width}
      height={HEIGHT}
      viewBox="0 0 {width} {HEIGHT}"
      role="img"
      aria-label="The waveform across the seam; thin: what stands behind the loop's end"
      class="block"
    >
      <path d="M0 {HEIGHT / 2}H{width}" stroke="var(--line)" />
      <path d="M{width / 2} 0V{HEIGHT}" stroke="var(--color-primary)" stroke-width="1.5" />
      {#if found}
        <path
          d={line(found.goes_on, found.heard.length / 2, found.heard.length, top)}
          fill="none"
          stroke="var(--bars-old)"
          stroke-width="1"
          stroke-dasharray="3 2"
        />
        <path
          d={line(found.heard, 0, found.heard.length, top)}
          fill="none"
          stroke="var(--bars-new)"
          stroke-width="1.6"
        />
      {/if}
      <text x="6" y="13" font-size="11" fill="var(--quiet)">before the end</text>
      <text x={width - 6} y="13" font-size="11" text-anchor="end" fill="var(--quiet)">behind the start</text>
    </svg>
  </div>
  <dl class="grid grid-cols-[auto_auto] content-start gap-x-3">
    {#if found}
      <dt class="text-quiet">level step</dt>
      <dd class="num text-right">{decibels(found.step_db)}</dd>
      <dt class="text-quiet">click, above usual</dt>
      <dd class="num text-right">{decibels(found.click_db)}</dd>
      <dt class="text-quiet">spectral distance</dt>
      <dd class="num text-right">
        {found.spectrum_db.toFixed(1)} dB <span class="text-quiet">({found.usual_db.toFixed(1)} usual)</span>
      </dd>
      <dd class="col-span-2 {verdict.startsWith('✓') ? 'text-success' : 'text-primary'}" role="status">
        {verdict}
      </dd>
    {/if}
  </dl>
  <div class="flex flex-col gap-1.5">
    {#if loop}
      {#each [0, 1] as const as edge (edge)}
        {@const name = edge ? "end" : "start"}
        <div class="flex items-center gap-1.5" role="group" aria-label="Move the {name}">
          <span class="w-9 text-quiet">{name}</span>
          {#each ways as { key, label, frames } (key)}
            <span class="join">
              <button
                class="btn btn-xs join-item"
                aria-label="The {name} back by a {label}"
                onclick={() => move(edge, -frames)}>−</button
              >
              <span class="join-item border border-line px-1.5">{label}</span>
              <button
                class="btn btn-xs join-item"
                aria-label="The {name} on by a {label}"
                onclick={() => move(edge, frames)}>+</button
              >
            </span>
          {/each}
          <span class="join">
            <button
              class="btn btn-xs join-item"
              aria-label="The {name} back to a zero crossing"
              disabled={old}
              onclick={() => move(edge, 0, found!.ups[edge]![0]!)}>−</button
            >
            <span class="join-item border border-line px-1.5">zero</span>
            <button
              class="btn btn-xs join-item"
              aria-label="The {name} on to a zero crossing"
              disabled={old}
              onclick={() => move(edge, 0, found!.ups[edge]![1]!)}>+</button
            >
          </span>
        </div>
      {/each}
    {/if}
    <button
      class="btn btn-sm self-start"
      aria-pressed={again}
      disabled={!swap.new}
      onclick={() => (again = !again)}>{again ? "■ Stop" : "▶ Hear it again and again"}</button
    >
  </div>
</div>
