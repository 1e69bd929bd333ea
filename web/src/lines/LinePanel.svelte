<script lang="ts">
  import type { Line } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { clock, spaced } from "../lib/format";
  import { streamTitle } from "../lib/items";
  import { player } from "../lib/player.svelte";
  import type { Said } from "../lib/streams.svelte";
  import Sheet from "../components/Sheet.svelte";
  import DropZone from "../swap/DropZone.svelte";
  import { newSeconds, stateOf } from "./lines.svelte";

  /** The current line: what is spoken, by whom, and its take. */
  let {
    line,
    sending,
    say,
    send,
    record,
    next,
  }: {
    line: Line;
    sending: number | null;
    say: (what: Said) => Promise<void>;
    send: (file: File) => void;
    record: () => void;
    /** To the next line and its text. */
    next: () => void;
  } = $props();
  let field = $state<HTMLTextAreaElement>();

  export function edit(): void {
    field?.focus();
    field?.select();
  }

  const st = $derived(stateOf(line));
  const fresh = $derived(newSeconds(line));

  function hear(side: "original" | "new") {
    player.change(side);
    void player.start(0);
  }
  function typed(what: "text" | "notes" | "author", value: string) {
    if (value.trim() !== line.stream[what]) void say({ [what]: value });
  }
</script>

<Sheet label="The chosen line" title={line.stream.text || streamTitle(line.stream)} width="285px">
  <div>
    <h2 class="text-base font-bold">{streamTitle(line.stream)}</h2>
    <p class="num break-words text-quiet">{line.stream.place}</p>
  </div>
  {#key line.stream.id}
    <label class="block">
      <span class="text-quiet">text{line.stream.language ? `, ${line.stream.language}` : ""}</span>
      <textarea
        bind:this={field}
        class="textarea mt-1 min-h-24 w-full bg-base-100 text-lg leading-snug"
        aria-label="Text of the line"
        value={line.stream.text}
        onchange={(e) => typed("text", e.currentTarget.value)}
        onkeydown={(e) => {
          if (e.key !== "Enter" || e.shiftKey) return;
          e.preventDefault();
          typed("text", e.currentTarget.value);
          next();
        }}></textarea>
      <span class="text-quiet">Enter goes to the next line</span>
    </label>
    <div class="grid grid-cols-2 gap-2">
      <label class="block">
        <span class="text-quiet">spoken by</span>
        <input
          class="input input-sm mt-1 w-full"
          value={line.stream.author}
          maxlength="100"
          onchange={(e) => typed("author", e.currentTarget.value)}
        />
      </label>
      <label class="flex items-end gap-2 pb-1.5">
        <input
          type="checkbox"
          class="checkbox checkbox-sm"
          checked={line.stream.done}
          onchange={(e) => say({ done: e.currentTarget.checked })}
        />
        done <kbd class="kbd kbd-sm">D</kbd>
      </label>
    </div>
    <label class="block">
      <span class="text-quiet">notes, for who speaks it</span>
      <textarea
        class="textarea mt-1 min-h-12 w-full bg-base-100"
        value={line.stream.notes}
        onchange={(e) => typed("notes", e.currentTarget.value)}></textarea>
    </label>
  {/key}
  <div class="flex flex-wrap gap-2">
    <button class="btn btn-sm" onclick={() => hear("original")}
      >▶ Original <span class="num text-quiet">{clock(line.stream.seconds, 1)}</span></button
    >
    <button class="btn btn-sm" disabled={fresh === null} onclick={() => hear("new")}
      >▶ New {#if fresh !== null}<span class="num text-quiet">{clock(fresh, 1)}</span>{/if}</button
    >
  </div>
  <div>
    <p>
      <span class="text-quiet">take</span>
      <span class={st.tone}>{st.sign} {st.text}</span>
    </p>
    {#if line.take}
      <p class="truncate text-quiet" title={line.take.source_name}>{line.take.source_name}</p>
      {#if line.take.error}<p class="text-error">{line.take.error.what} {line.take.error.next}</p>{/if}
      <a class="text-primary underline" href="#/{app.gameId}/swap/{line.take.id}">Its treatment in Swap</a>
    {/if}
  </div>
  <div class="mt-auto flex flex-col gap-2">
    <button class="btn btn-sm" onclick={record}>Record it … <kbd class="kbd kbd-sm">R</kbd></button>
    <DropZone {sending} {send} />
    <p class="num text-quiet">{spaced(line.stream.rate)} Hz · {line.stream.codec}</p>
  </div>
</Sheet>
