<script lang="ts">
  import { api, got } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { bytes, count, spaced } from "../lib/format";
  import { newest } from "../lib/newest";

  /** Aids where a file is unknown: numbers at the cursor, who holds a value, texts, likely record lengths. */
  let {
    path,
    size,
    cursor,
    read,
    goTo,
    attempt,
  }: {
    path: string;
    size: number;
    cursor: number;
    read: (at: number, length: number) => Promise<Uint8Array<ArrayBuffer>>;
    goTo: (at: number) => void;
    attempt: <T>(work: () => Promise<T>) => Promise<T | undefined>;
  } = $props();

  const SHOWN = 40; // places that are told
  const game_id = app.gameId;
  let near = $state(new Uint8Array());
  let found = $state<{
    value: string;
    hits: { at: number; type: string; order: string }[];
    searched: number;
  } | null>(null);
  let search = newest();
  let searching = $state(false);
  let runs = $state<{ at: number; text: string }[]>([]);
  let distances = $state<{ bytes: number; score: number }[]>([]);

  $effect(() => {
    const at = cursor;
    const timer = setTimeout(async () => {
      const eight = await read(at, 8);
      if (at === cursor) near = eight;
    }, 60);
    return () => clearTimeout(timer);
  });

  /** The number that begins at the cursor, in a width and an order. */
  function number(width: number, little: boolean): bigint | null {
    if (near.length < width) return null;
    const part = [...near.slice(0, width)];
    return (little ? part.reverse() : part).reduce((n, b) => (n << 8n) | BigInt(b), 0n);
  }

  /** Look for a number through the whole file, some bytes a request, until enough is found or somebody stops it. */
  const findValue = (value: bigint | number) =>
    attempt(async () => {
      const current = search();
      found = { value: String(value), hits: [], searched: 0 };
      searching = true;
      try {
        while (current() && found.searched < size && found.hits.length < SHOWN) {
          const at: number = found.searched;
          const query = { path, value: String(value) as never, at };
          const out = await got(
            api.GET("/api/games/{game_id}/bench/find", { params: { path: { game_id }, query } }),
          );
          if (!current()) return;
          found = { ...found, hits: [...found.hits, ...out.hits], searched: out.searched };
        }
      } finally {
        if (current()) searching = false;
      }
    });

  function stop() {
    search();
    searching = false;
  }

  $effect(() => stop);

  const more = () =>
    attempt(async () => {
      const query = { path, at: cursor };
      runs = await got(
        api.GET("/api/games/{game_id}/bench/strings", { params: { path: { game_id }, query } }),
      );
      distances = await got(
        api.GET("/api/games/{game_id}/bench/distance", { params: { path: { game_id }, query } }),
      );
    });
</script>

<div class="flex flex-wrap gap-x-8 gap-y-3">
  <table aria-label="Integers at the cursor">
    <thead
      ><tr class="text-left text-quiet"
        ><th class="pr-4 font-normal">at the cursor</th><th class="pr-4 text-right font-normal">little</th><th
          class="text-right font-normal">big</th
        ></tr
      ></thead
    >
    <tbody>
      {#each [1, 2, 3, 4, 6, 8] as width (width)}
        <tr>
          <td class="pr-4 text-quiet">{width * 8} bit</td>
          {#each [true, false] as little (little)}
            {@const n = number(width, little)}
            <td class="num pr-4 text-right">
              {#if n !== null}<button title="Find it elsewhere in the file" onclick={() => findValue(n)}
                  >{n.toString().replace(/\B(?=(\d{3})+$)/g, "\u202f")}</button
                >{/if}
            </td>
          {/each}
        </tr>
      {/each}
    </tbody>
  </table>
  <div class="min-w-56 grow basis-56">
    <div class="flex flex-wrap gap-1">
      <button class="btn btn-xs" onclick={() => findValue(cursor)}>Who holds this place?</button>
      <button class="btn btn-xs" onclick={() => findValue(size)}>Who holds the file's size?</button>
      <button class="btn btn-xs" onclick={more}>Texts and record length from here</button>
    </div>
    {#if found}
      <p class="mt-2">
        <span class="num">{found.value}</span> stands at {count(found.hits.length, "place")}
        <span class="text-quiet"
          >in {found.searched < size
            ? `the first ${bytes(found.searched)} of ${bytes(size)}`
            : bytes(size)}</span
        >
        {#if searching}<button class="btn btn-xs ml-2" onclick={stop}>Stop</button>{/if}
      </p>
      <p class="num">
        {#each found.hits.slice(0, SHOWN) as h (h.at)}
          <button class="mr-3 underline" onclick={() => goTo(h.at)}
            >{spaced(h.at)} <span class="text-quiet">{h.type} {h.order}</span></button
          >
        {/each}
      </p>
    {/if}
    {#if distances.length}
      <p class="mt-2">
        likely record lengths: {#each distances as d (d.bytes)}<span class="num mr-2">{d.bytes} B</span
          >{/each}
      </p>
    {/if}
    {#each runs.slice(0, 30) as r (r.at)}
      <button class="num block text-left" onclick={() => goTo(r.at)}
        ><span class="text-quiet">{spaced(r.at)}</span> {r.text}</button
      >
    {/each}
  </div>
</div>
