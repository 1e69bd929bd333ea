<script lang="ts">
  import ByteRibbon from "../components/ByteRibbon.svelte";
  import HexView from "../components/HexView.svelte";
  import type { FieldSpan, Job, Tried } from "../lib/api";
  import { bytes, spaced } from "../lib/format";
  import Aids from "./Aids.svelte";
  import Checked from "./Checked.svelte";
  import type { Draft } from "./draft.svelte";
  import Items from "./Items.svelte";
  import Structure from "./Structure.svelte";
  import { TABS, type Tab } from "./tabs";

  /** A file's bytes, and what the layout says of them. */
  let {
    game_id,
    path,
    size,
    entropy,
    draft,
    tried,
    reads,
    spans,
    job,
    tab = $bindable(),
    cursor = $bindable(),
    first = $bindable(),
    goTo,
    check,
  }: {
    game_id: number;
    path: string;
    size: number;
    entropy: number[];
    draft: Draft;
    tried: Tried | null;
    /** The text of which `tried` tells, where it reads the file; else "". */
    reads: string;
    spans: FieldSpan[];
    /** The check that was begun here. */
    job: Job | undefined;
    tab: Tab;
    cursor: number;
    first: number;
    goTo: (at: number) => void;
    check: (all: boolean) => void;
  } = $props();

  let jump = $state("");
  const here = $derived(spans.find((s) => cursor >= s.at && cursor < s.at + s.length));
  const top = $derived(Math.max(1, ...entropy));

  async function read(at: number, length: number): Promise<Uint8Array<ArrayBuffer>> {
    const answer = await fetch(
      `/api/games/${game_id}/bench/bytes?path=${encodeURIComponent(path)}&at=${at}&length=${length}`,
    );
    return new Uint8Array(await answer.arrayBuffer());
  }

  function jumpTo(e: SubmitEvent) {
    e.preventDefault();
    const at = Number(jump.trim().toLowerCase().startsWith("0x") ? jump : jump.replace(/[\s,\u202f]/g, ""));
    if (Number.isFinite(at)) goTo(at);
  }
</script>

<section aria-label="The file" class="flex min-h-0 flex-col max-lg:h-[36rem]">
  <div class="flex items-end gap-4">
    <div class="min-w-0 grow">
      {#if tried?.ribbon}<ByteRibbon
          ribbon={tried.ribbon}
          label={path}
          mark={{ at: cursor, length: Math.max(1, here?.length ?? 1) }}
        />{:else}<p class="num text-quiet">{bytes(size)}</p>{/if}
    </div>
    <form class="flex gap-1" onsubmit={jumpTo}>
      <input
        class="input input-sm num w-32"
        placeholder="byte or 0x…"
        aria-label="Go to byte"
        bind:value={jump}
      />
      <button class="btn btn-sm">Go</button>
    </form>
  </div>
  <div
    class="mt-1 flex h-5 items-end gap-px"
    role="img"
    aria-label="Entropy along the file: low is plain tables and text, full height is packed or encrypted"
    title="entropy: low is plain, full height is packed or encrypted"
  >
    {#each entropy as e, i (i)}
      <span
        class="min-w-0 grow bg-old opacity-70"
        style="height: {Math.max(4, (e / Math.max(8, top)) * 100)}%"
      ></span>
    {/each}
  </div>
  <div class="mt-2 min-h-40 grow rounded-box bg-base-200 py-1">
    {#if size}<HexView {size} {read} {spans} bind:cursor bind:first />{/if}
  </div>
  <p class="num mt-1 h-5 truncate" aria-live="polite">
    byte {spaced(cursor)} · 0x{cursor.toString(16)}
    {#if here}· <strong
        >{here.region}{here.record >= 0 ? ` ${spaced(here.record)}` : ""} · {here.field}</strong
      >
      = {here.value}{here.means ? ` · ${here.means}` : ""}{/if}
  </p>
  <div role="tablist" class="mt-1 flex gap-1 border-b border-line">
    {#each TABS as name (name)}
      <button
        role="tab"
        id="tab-{name}"
        aria-selected={tab === name}
        aria-controls="panel"
        class="px-3 py-1 {tab === name ? 'border-b-2 border-primary font-semibold' : 'text-quiet'}"
        onclick={() => (tab = name)}>{name}</button
      >
    {/each}
  </div>
  <div id="panel" role="tabpanel" aria-labelledby="tab-{tab}" class="h-44 shrink-0 overflow-auto py-2">
    {#if tab === "structure"}
      <Structure {tried} {spans} {here} {goTo} />
    {:else if tab === "entries"}
      <Items {game_id} {path} text={reads} {goTo} />
    {:else if tab === "check"}
      <Checked {job} {check} ready={!!draft.current} />
    {/if}
    <!-- always there, so that what was found stays while one looks at another tab -->
    <div hidden={tab !== "aids"}>
      <Aids {path} {size} {cursor} {read} {goTo} attempt={draft.attempt} />
    </div>
  </div>
</section>
