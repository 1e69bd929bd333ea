<script lang="ts">
  import Modal from "../components/Modal.svelte";
  import { api, got, type Stream } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { clock } from "../lib/format";
  import { itemOf, streamTitle } from "../lib/items";
  import { player } from "../lib/player.svelte";

  /** Finding the stream of this game that is to be heard in the place of another. Moving through them plays them. */
  let { into, take, close }: { into: Stream; take: (other: Stream) => void; close: () => void } = $props();

  const MOST = 50;
  let modal: Modal;
  let text = $state("");
  let at = $state(0);
  let found = $state.raw<{ rows: Stream[]; total: number } | null>(null);
  const streams = $derived((found?.rows ?? []).filter((s) => s.id !== into.id));

  $effect(() => {
    const q = text.trim();
    const timer = setTimeout(async () => {
      const query = { q, limit: MOST };
      const page = await app.attempt(
        api.GET("/api/games/{game_id}/streams", { params: { path: { game_id: app.gameId }, query } }),
      );
      if (page && q === text.trim()) [found, at] = [{ rows: page.rows, total: page.total ?? 0 }, 0];
    }, 120);
    return () => clearTimeout(timer);
  });

  function hear(stream: Stream | undefined) {
    if (!stream) return;
    player.load(itemOf(stream), "original");
    void player.start(0);
  }

  function onkeydown(e: KeyboardEvent) {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (step) {
      at = Math.max(0, Math.min(streams.length - 1, at + step));
      hear(streams[at]);
    } else if (e.key === "Enter") choose(streams[at]);
    else return;
    e.preventDefault();
  }

  function choose(stream: Stream | undefined) {
    if (!stream) return;
    modal.close();
    take(stream);
  }
</script>

<Modal bind:this={modal} label="Another stream" width="w-[40rem]" onclose={close}>
  <h2 class="text-xl font-bold">Another stream in its place</h2>
  <p class="mt-1 text-quiet">
    It is decoded, treated and encoded as a file of yours would be; the stream itself stays as it is.
  </p>
  <!-- svelte-ignore a11y_autofocus -->
  <input
    class="input mt-3 w-full"
    autofocus
    placeholder="A stream's name or id, or a bank"
    aria-label="Find a stream"
    role="combobox"
    aria-expanded="true"
    aria-controls="others"
    aria-activedescendant="other-{at}"
    bind:value={text}
    {onkeydown}
  />
  <ul id="others" role="listbox" aria-label="Streams" class="mt-2 h-72 overflow-auto">
    {#each streams as s, i (s.id)}
      <!-- svelte-ignore a11y_click_events_have_key_events -->
      <li
        id="other-{i}"
        role="option"
        aria-selected={i === at}
        class="flex cursor-pointer items-baseline justify-between gap-4 rounded-field px-3 py-1.5 {i === at
          ? 'bg-base-300'
          : ''}"
        onclick={() => ((at = i), hear(s))}
        ondblclick={() => choose(s)}
      >
        <span class="min-w-0 truncate">{streamTitle(s)} <span class="num text-quiet">{s.place}</span></span>
        <span class="num shrink-0 text-quiet">{clock(s.seconds, 1)}</span>
      </li>
    {:else}
      <li class="px-3 py-2 text-quiet" role="option" aria-selected="false">
        {found ? "Nothing by this name." : "Looking …"}
      </li>
    {/each}
  </ul>
  <div class="mt-3 flex items-center justify-end gap-2">
    <p class="mr-auto text-quiet">
      {#if found && found.total > MOST}{MOST} of {found.total} shown: type more of its name.{:else}↑ ↓ to
        listen{/if}
    </p>
    <button class="btn btn-sm" onclick={() => modal.close()}>Cancel</button>
    <button class="btn btn-primary btn-sm" disabled={!streams[at]} onclick={() => choose(streams[at])}
      >Take it</button
    >
  </div>
</Modal>
