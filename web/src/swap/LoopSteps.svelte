<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { api, got, type Stream, type Swap, type Treatment } from "../lib/api";
  import { clock, spaced } from "../lib/format";
  import Choice from "./Choice.svelte";
  import Beats from "./Beats.svelte";
  import FoundLoops from "./FoundLoops.svelte";
  import NumberStep from "./NumberStep.svelte";
  import { inTurn } from "./swaps";
  import { BY_THE_GAME, EDGES, ENDS, PLAYED, readClock } from "./steps";

  /** Where a loop is, in frames of the new stream, and how it is played. */
  let { swap, stream, change }: { swap: Swap; stream: Stream; change: (steps: Treatment) => Promise<void> } =
    $props();

  /** Seconds in which a loop that is played out fades, as long as nobody says otherwise. */
  const FADE = 5;
  const how = $derived(swap.treatment);
  const file = $derived(swap.loop as [number, number] | null);
  /** The loop as it will be stored; in the file's frames, where it is played out or can't be stored yet. */
  const stored = $derived((swap.becomes?.loop ?? null) as [number, number] | null);
  const shown = $derived(stored ?? file);
  const rate = $derived(stored ? swap.becomes!.rate : (swap.info?.rate ?? 1));

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
    const at = (frame: number) => clock(frame / (swap.info?.rate ?? 1), 2);
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

  const points = () => ({
    loop_start: file?.[0] ?? how.trim_start,
    loop_end: file?.[1] ?? how.trim_end ?? swap.info?.frames ?? 0,
  });

  function takeNote(e: Event & { currentTarget: HTMLSelectElement }) {
    const use = others[Number(e.currentTarget.value)]?.use;
    e.currentTarget.value = "";
    if (use) void change({ loop: "points", ...points(), ...use });
  }

  /** A loop that is played out fades out behind; one that the game repeats never ends. */
  function play(extend: string) {
    const fade_out = extend
      ? how.fade_out || FADE
      : how.extend_end === "fade" && how.extend
        ? 0
        : how.fade_out;
    void change({ extend, fade_out });
  }

  const turn = inTurn();
  const typed = (edge: 0 | 1, frame: number) =>
    turn(() => {
      if (!shown) return;
      const next: [number, number] = [...shown];
      next[edge] = Math.round(frame);
      return change(stored ? { new_loop: next } : { loop: "points", loop_start: next[0], loop_end: next[1] });
    });
</script>

<span class="self-start pt-1 text-quiet max-md:pt-0">loop</span>
<div class="flex flex-wrap items-center gap-x-4 gap-y-1.5">
  <Choice
    label="loop"
    hidden
    width="w-44"
    value={how.loop}
    choices={[
      ["source", "its own"],
      ["whole", "the whole piece"],
      ["points", "these points"],
      ["original", "as the original’s"],
      ["none", "none"],
    ]}
    off={[...(swap.info?.loop ? [] : ["source"]), ...(stream.loop ? [] : ["original"])]}
    set={(loop) => change({ loop, ...(loop === "points" ? points() : {}) })}
  />
  {#if shown && file && swap.info}
    {#each [0, 1] as const as edge (edge)}
      <NumberStep
        label="loop {edge ? 'end' : 'start'}"
        unit="frames"
        wide
        value={shown[edge]}
        from={0}
        to={(stored ? swap.becomes : swap.info)!.frames}
        hint="{clock(shown[edge] / rate)}; in the file: frame {spaced(file[edge])}"
        show={spaced}
        set={(frame) => typed(edge, frame)}
      />
    {/each}
    <span class="num text-quiet">
      {clock(shown[0] / rate)} – {clock(shown[1] / rate)}{file[1] === swap.info.frames ? " · end" : ""}
    </span>
  {/if}
  {#if others.length}
    <select
      class="select select-sm w-60"
      aria-label="Loops and cue points of the file"
      value=""
      onchange={(e) => takeNote(e)}
    >
      <option value="">{others.length} loops and cue points …</option>
      {#each others as o, i (i)}<option value={String(i)} disabled={!o.use}>{o.text}</option>{/each}
    </select>
  {/if}
  {#if how.loop === "original"}<Beats {swap} {change} />{/if}
  {#if swap.points.some((p) => p.key === "more_loops")}
    <Choice
      label="further loops"
      width="w-44"
      value={how.more_loops}
      choices={[
        ["source", "the file’s own"],
        ["original", "as the original’s"],
        ["none", "none"],
      ]}
      set={(more_loops) => change({ more_loops })}
    />
  {/if}
  {#if swap.source !== "silence"}<FoundLoops {swap} {change} />{/if}
</div>
{#if file}
  <span></span>
  <div class="flex flex-wrap items-center gap-x-4 gap-y-1.5">
    <Choice label="it is" width="w-52" value={how.extend} choices={PLAYED} set={play} />
    {#if how.extend === "times"}
      <NumberStep
        label="times"
        value={how.extend_times}
        from={1}
        to={100_000}
        set={(extend_times) => change({ extend_times: Math.round(extend_times) })}
      />
    {:else if how.extend === "length"}
      <NumberStep
        label="it lasts"
        value={how.extend_seconds}
        from={0}
        to={43_200}
        by={1}
        show={(s) => clock(s, 0)}
        read={readClock}
        set={(extend_seconds) => change({ extend_seconds })}
      />
    {/if}
    {#if how.extend !== BY_THE_GAME}
      <Choice
        label="then"
        width="w-36"
        value={how.extend_end}
        choices={ENDS}
        set={(extend_end) =>
          change({ extend_end, fade_out: extend_end === "fade" ? how.fade_out || FADE : 0 })}
      />
    {/if}
    <NumberStep
      label="end blended for"
      unit="ms"
      value={how.declick_ms}
      from={0}
      to={200}
      by={5}
      hint="So long before its end the loop goes over into what is before its start: a seam that clicks does not any more."
      set={(declick_ms) => change({ declick_ms })}
    />
    {#if how.extend === BY_THE_GAME && stream.block_frames > 1}
      <Choice
        label="loop start to a block edge"
        width="w-52"
        value={how.align}
        choices={EDGES}
        set={(align) => change({ align })}
      />
    {/if}
  </div>
{/if}
