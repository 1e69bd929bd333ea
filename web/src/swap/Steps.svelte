<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import type { Snippet } from "svelte";
  import { api, got, type Stream, type Swap, type Treatment } from "../lib/api";
  import { clock, spaced } from "../lib/format";

  /** The steps that make a replacement fit, as they are now, and changing them. */
  let {
    swap,
    stream,
    change,
    children,
  }: {
    swap: Swap;
    stream: Stream;
    change: (steps: Treatment) => Promise<void>;
    children: Snippet;
  } = $props();

  // What the file itself says of loops and cue points: a click takes them over.
  const found = createQuery(() => {
    const path = { swap_id: swap.id };
    return {
      queryKey: ["notes of a swap", swap.id],
      queryFn: () => got(api.GET("/api/swaps/{swap_id}/notes", { params: { path } })),
      enabled: swap.state !== "reading",
      meta: { shown: true },
    };
  });
  const notes = $derived(found.data ?? { loops: [], cues: [] });
  const others = $derived.by(() => {
    const rate = swap.info?.rate ?? 1;
    const at = (frame: number) => clock(frame / rate, 2);
    return [
      ...notes.loops.map((l) => ({
        text: `loop ${at(l.start)} to ${at(l.end)}, ${l.way}${l.way === "forward" ? "" : ": not played"}`,
        use: l.way === "forward" ? { loop_start: l.start, loop_end: l.end } : null,
      })),
      ...notes.cues.flatMap((c) => [
        { text: `start at ${c.label || "cue"} ${at(c.frame)}`, use: { loop_start: c.frame } },
        { text: `end at ${c.label || "cue"} ${at(c.frame)}`, use: { loop_end: c.frame } },
      ]),
    ];
  });

  function takeNote(e: Event & { currentTarget: HTMLSelectElement }) {
    const use = others[Number(e.currentTarget.value)]?.use;
    e.currentTarget.value = "";
    if (!use || !swap.info) return;
    const now = { loop_start: loopNow?.[0] ?? 0, loop_end: loopNow?.[1] ?? swap.info.frames };
    void change({ loop: "points", ...now, ...use });
  }

  /** What is asked for beside each way to set the level. */
  const CEILING = { step: "ceiling_db", label: "true peak at most, dBTP", from: -20, to: 0 } as const;
  const LEVELS: Record<
    string,
    { step: "gain_db" | "lufs" | "ceiling_db"; label: string; from: number; to: number }[]
  > = {
    "": [{ step: "gain_db", label: "gain, dB", from: -60, to: 40 }],
    original: [CEILING],
    number: [{ step: "lufs", label: "loudness, LUFS", from: -60, to: 0 }, CEILING],
  };

  const loopNow = $derived(swap.loop as [number, number] | null);

  function typedLoop(edge: 0 | 1, text: string) {
    const value = Number(text.replace(/\s/g, ""));
    if (!loopNow || !Number.isInteger(value)) return;
    const next: [number, number] = [...loopNow];
    next[edge] = value;
    void change({ loop: "points", loop_start: next[0], loop_end: next[1] });
  }

  function setMode(mode: string) {
    if (mode === "points" && swap.info)
      void change({ loop: mode, loop_start: loopNow?.[0] ?? 0, loop_end: loopNow?.[1] ?? swap.info.frames });
    else void change({ loop: mode });
  }
</script>

<div class="mt-3 flex flex-wrap items-start gap-x-4 gap-y-2">
  <label class="block">
    <span class="text-quiet">loop</span>
    <select
      class="select mt-1 flex w-40"
      aria-label="loop"
      value={swap.treatment.loop}
      onchange={(e) => setMode(e.currentTarget.value)}
    >
      <option value="source" disabled={!swap.info?.loop}>its own</option>
      <option value="whole">the whole piece</option>
      <option value="points">these points</option>
      <option value="none">none</option>
    </select>
  </label>
  {#if loopNow && swap.info}
    {#each [0, 1] as const as edge (edge)}
      <label class="block">
        <span class="text-quiet">loop {edge ? "end" : "start"}, frames</span>
        <input
          class="input num mt-1 block w-32"
          inputmode="numeric"
          value={spaced(loopNow[edge])}
          onchange={(e) => typedLoop(edge, e.currentTarget.value)}
        />
        <span class="num text-quiet"
          >{clock(loopNow[edge] / swap.info.rate)}{edge && loopNow[1] === swap.info.frames
            ? " · end"
            : ""}</span
        >
      </label>
    {/each}
  {/if}
  {#if others.length}
    <label class="block">
      <span class="text-quiet">in the file</span>
      <select
        class="select mt-1 flex w-56"
        aria-label="Loops and cue points of the file"
        value=""
        onchange={(e) => takeNote(e)}
      >
        <option value="">{others.length} loops and cue points …</option>
        {#each others as o, i (i)}<option value={String(i)} disabled={!o.use}>{o.text}</option>{/each}
      </select>
    </label>
  {/if}
  <label class="block">
    <span class="text-quiet">level</span>
    <select
      class="select mt-1 flex w-56"
      aria-label="level"
      value={swap.treatment.match}
      onchange={(e) => change({ match: e.currentTarget.value })}
    >
      <option value="">by a gain</option>
      <option value="original">as loud as the original</option>
      <option value="number">to a loudness</option>
    </select>
  </label>
  {#each LEVELS[swap.treatment.match] ?? [] as { step, label, from, to } (step)}
    <label class="block">
      <span class="text-quiet">{label}</span>
      <input
        class="input num mt-1 block w-24"
        type="number"
        step="0.1"
        min={from}
        max={to}
        value={swap.treatment[step]}
        onchange={(e) => change({ [step]: Number(e.currentTarget.value) })}
      />
    </label>
  {/each}
  {#if stream.block_frames > 1 && loopNow}
    <label class="block">
      <span class="text-quiet">loop start to a block edge</span>
      <select
        class="select mt-1 flex w-56"
        aria-label="loop start to a block edge"
        value={swap.treatment.align}
        onchange={(e) => change({ align: e.currentTarget.value })}
      >
        <option value="">leave it</option>
        <option value="pad">by silence before the head</option>
        <option value="trim">by cutting the head</option>
      </select>
    </label>
  {/if}
  {@render children()}
</div>
