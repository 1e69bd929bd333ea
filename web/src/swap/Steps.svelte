<script lang="ts">
  import type { Snippet } from "svelte";
  import type { Stream, Swap, Treatment } from "../lib/api";
  import { clock } from "../lib/format";
  import Choice from "./Choice.svelte";
  import LoopSteps from "./LoopSteps.svelte";
  import NumberStep from "./NumberStep.svelte";
  import { BITS, LENGTHS, LEVELS, readClock } from "./steps";
  import Weights from "./Weights.svelte";

  /** The steps that make a replacement fit, in the order in which they are done, and changing them. */
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

  const how = $derived(swap.treatment);
  const info = $derived(swap.info!);
  const seconds = $derived(info.frames / info.rate);
  const frame = (s: number) => Math.min(info.frames, Math.round(s * info.rate));
  const ends = $derived(how.trim_end === null ? seconds : how.trim_end / info.rate);
  const silent = $derived(swap.source === "silence");
  let weighing = $state(false);
</script>

<div
  class="mt-3 grid grid-cols-[auto_1fr] items-center gap-x-4 gap-y-1.5 max-md:grid-cols-1"
  role="group"
  aria-label="What is done to it"
>
  {#if !silent}
    <span class="text-quiet">part</span>
    <div class="flex flex-wrap items-center gap-x-4 gap-y-1.5">
      <NumberStep
        label="from"
        wide
        value={how.trim_start / info.rate}
        from={0}
        to={seconds}
        by={0.01}
        show={(s) => clock(s)}
        read={readClock}
        set={(s) => change({ trim_start: frame(s) })}
      />
      <NumberStep
        label="to"
        wide
        value={ends}
        from={0}
        to={seconds}
        by={0.01}
        show={(s) => clock(s)}
        read={readClock}
        set={(s) => change({ trim_end: frame(s) === info.frames ? null : frame(s) })}
      />
      <label class="flex items-center gap-1.5">
        <input
          type="checkbox"
          class="checkbox checkbox-sm"
          checked={how.cut_silence}
          onchange={(e) => change({ cut_silence: e.currentTarget.checked })}
        />
        cut silence at both ends
      </label>
      {#if how.cut_silence}
        <NumberStep
          label="below"
          unit="dBFS"
          value={how.silence_db}
          from={-90}
          to={-20}
          set={(db) => change({ silence_db: Math.round(db) })}
        />
      {/if}
      <NumberStep
        label="fade in"
        unit="s"
        value={how.fade_in}
        from={0}
        to={600}
        by={0.1}
        set={(fade_in) => change({ fade_in })}
      />
      <NumberStep
        label="fade out"
        unit="s"
        value={how.fade_out}
        from={0}
        to={600}
        by={0.1}
        set={(fade_out) => change({ fade_out })}
      />
    </div>
  {/if}
  <LoopSteps {swap} {stream} {change} />
  <span class="text-quiet">length</span>
  <div class="flex flex-wrap items-center gap-x-4 gap-y-1.5">
    <Choice
      label="length"
      hidden
      width="w-44"
      value={how.length}
      choices={LENGTHS}
      off={how.loop === "none" || !swap.loop || how.extend ? [] : ["tempo"]}
      set={(length) => change({ length })}
    />
    {#if how.length !== "tempo" && !silent && (!swap.becomes?.loop || how.tempo !== 1)}
      <NumberStep
        label="tempo"
        unit="×"
        value={how.tempo}
        from={0.7}
        to={1.5}
        by={0.01}
        hint="So many times as fast, at the same pitch: 0.7 to 1.5"
        set={(tempo) => change({ tempo })}
      />
    {/if}
    {#if info.channels !== stream.channels || how.matrix}
      <button class="btn btn-sm" onclick={() => (weighing = true)}>
        {how.matrix ? "Own weights of the mix" : "Weights of the mix"} …
      </button>
    {/if}
  </div>
  {#if swap.aims}
    <span class="text-quiet">bits</span>
    <div class="flex flex-wrap items-center gap-x-4 gap-y-1.5">
      <Choice
        label="bits"
        hidden
        width="w-56"
        value={how.bits}
        choices={BITS}
        set={(bits) => change({ bits })}
      />
      {#if how.bits === "number"}
        <NumberStep
          label="bit rate"
          unit="kbit/s"
          value={how.bit_rate / 1000}
          from={6}
          to={512}
          by={8}
          set={(rate) => change({ bit_rate: Math.round(rate * 1000) })}
        />
      {/if}
    </div>
  {/if}
  {#if !silent}
    <span class="text-quiet">level</span>
    <div class="flex flex-wrap items-center gap-x-4 gap-y-1.5">
      <Choice
        label="level"
        hidden
        width="w-44"
        value={how.match}
        choices={LEVELS}
        set={(match) => change({ match })}
      />
      {#if !how.match}
        <NumberStep
          label="gain"
          unit="dB"
          value={how.gain_db}
          from={-60}
          to={40}
          by={0.5}
          set={(gain_db) => change({ gain_db })}
        />
      {:else if how.match === "number"}
        <NumberStep
          label="loudness"
          unit="LUFS"
          value={how.lufs}
          from={-60}
          to={0}
          by={0.5}
          set={(lufs) => change({ lufs })}
        />
      {/if}
      {#if how.match || how.limit}
        <NumberStep
          label="true peak at most"
          unit="dBTP"
          value={how.ceiling_db}
          from={-20}
          to={0}
          by={0.1}
          set={(ceiling_db) => change({ ceiling_db })}
        />
      {/if}
      <label
        class="flex items-center gap-1.5"
        title="Peaks above the ceiling are turned down while they last; without it all of it is made quieter."
      >
        <input
          type="checkbox"
          class="checkbox checkbox-sm"
          checked={how.limit}
          onchange={(e) => change({ limit: e.currentTarget.checked })}
        />
        limiter
      </label>
      {@render children()}
    </div>
  {:else}
    <span></span>
    <div class="flex">{@render children()}</div>
  {/if}
</div>
{#if weighing}
  <Weights {swap} {stream} {change} close={() => (weighing = false)} />
{/if}
