<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { untrack } from "svelte";
  import Comb from "../components/Comb.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { readFrom, written } from "../lib/address";
  import { api, asProblem, attempted, got, type ProblemText, type ReadingOut } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { inAddress } from "../lib/asking.svelte";
  import { ofGame } from "../lib/cache";
  import { bytes, clock, count, spaced } from "../lib/format";
  import { player } from "../lib/player.svelte";
  import Turn from "../unknown/Turn.svelte";

  /** Bytes that nothing describes: what they could be as sound, heard while everything can be turned. */
  const game_id = app.gameId;
  const path = app.detail;
  const params = { path: { game_id } };

  // The part that is judged, the address's or the file's first; and the reading of it that was chosen, as it was turned.
  interface Asked {
    from: number | null;
    to: number | null;
    reading: string;
  }
  const FIRST: Asked = { from: null, to: null, reading: "" };
  let asked = $state(readFrom(app.search, FIRST));
  inAddress(
    () => written(asked, FIRST),
    (search) => (asked = readFrom(search, FIRST)),
    () => path,
  );

  let typed = $state<[number, number]>([0, 0]);
  let rate = $state(22050);
  /** The rate at which the part is judged: turning it further only changes what is heard. */
  let judgedAt = $state<number | null>(null);
  let chosen = $state<ReadingOut | null>(null);
  let failed = $state<ProblemText | null>(null);

  const looked = createQuery(() => ({
    queryKey: ofGame(game_id, "unknown", path),
    queryFn: () => got(api.GET("/api/games/{game_id}/unknown", { params: { ...params, query: { path } } })),
    meta: { shown: true },
  }));
  const file = $derived(looked.data);
  const part = $derived.by((): [number, number] => {
    if (asked.to !== null) return [asked.from ?? 0, asked.to];
    const first = file?.spans[0];
    return first ? [first.at, first.at + first.length] : [0, 0];
  });
  const judged = createQuery(() => {
    const query = { path, start: part[0], end: part[1], rate: judgedAt ?? rate };
    return {
      queryKey: ofGame(game_id, "unknown", path, "rank", query),
      queryFn: () => got(api.GET("/api/games/{game_id}/unknown/rank", { params: { ...params, query } })),
      enabled: !!file && judgedAt !== null,
      meta: { shown: true },
    };
  });
  const ranked = $derived(judged.data);
  const error = $derived(looked.error ?? judged.error);
  const problem = $derived(failed ?? (error ? asProblem(error) : null));

  const attempt = <T,>(work: () => Promise<T>) => attempted(work, (p) => (failed = p));

  $effect(() => {
    if (!file) return;
    const own = file.rate;
    untrack(() => {
      if (judgedAt !== null) return;
      if (own) rate = own;
      judgedAt = rate;
    });
  });
  $effect(() => {
    typed = [...part];
  });
  // The best reading of a part is shown, or the one that was, where it is among them; first of all the address's.
  $effect(() => {
    if (!ranked) return;
    const all = ranked.candidates;
    untrack(() => {
      const kept = chosen ?? read(asked.reading);
      const same = all.find((c) => c.codec === kept?.codec && c.channels === kept.channels);
      const best = same ?? all[0];
      if (!best) return;
      const again = chosen ? null : kept;
      show(best, false);
      if (again) void hear({ ...best, ...again });
    });
  });

  function look(from: number, to: number) {
    failed = null;
    judgedAt = rate;
    asked = { from, to, reading: "" };
  }

  /** A reading as the address has it. */
  function keep(reading: ReadingOut) {
    const { codec, channels, block_size, skip, parameters } = reading;
    asked.reading = JSON.stringify({ rate, codec, channels, block_size, skip, parameters });
  }

  function read(kept: string): ReadingOut | null {
    try {
      return (JSON.parse(kept || "null") as ReadingOut | null) ?? null;
    } catch {
      return null; // an address that somebody has cut
    }
  }

  function show(reading: ReadingOut, play: boolean) {
    chosen = reading;
    player.load({
      title: `${path.split("/").at(-1)}, byte ${spaced(part[0])}`,
      place: `${path} · ${reading.label}`,
      original: {
        audio: reading.audio,
        rate: reading.rate,
        channels: reading.channels,
        frames: reading.frames,
        loop: null,
      },
      fresh: null,
    });
    if (play) void player.start(0);
  }

  const body = (reading: ReadingOut) => ({
    path,
    start: part[0],
    end: part[1],
    rate,
    reading: {
      codec: reading.codec,
      channels: reading.channels,
      block_size: reading.block_size,
      skip: reading.skip,
      parameters: reading.parameters,
    },
  });

  /** Hear the same part with something turned; what is heard goes on from where it was. */
  async function turn(change: Partial<ReadingOut>) {
    if (!chosen) return;
    const was = player.playing ? player.seconds : -1;
    const found = await hear({ ...chosen, ...change, rate });
    if (!found) return;
    keep(found);
    if (was >= 0) void player.start(Math.min(found.frames - 1, Math.round(was * found.rate)));
  }

  async function hear(wanted: ReadingOut): Promise<ReadingOut | undefined> {
    rate = wanted.rate;
    const found = await attempt(() =>
      got(api.POST("/api/games/{game_id}/unknown/hear", { params, body: body(wanted) })),
    );
    if (found) show({ ...found, score: wanted.score, reasons: wanted.reasons }, false);
    return found;
  }

  async function draft() {
    if (!chosen) return;
    const made = await attempt(() =>
      got(
        api.POST("/api/games/{game_id}/unknown/draft", {
          params,
          body: body(chosen!),
        }),
      ),
    );
    if (!made) return;
    localStorage.setItem(`zubret-bench ${path}`, String(made.id));
    app.go("bench", path);
  }

  const values = (c: ReadingOut) =>
    [
      c.channels === 1 ? "mono" : `${c.channels} channels`,
      ...(c.block_size ? [`blocks of ${spaced(c.block_size)} B`] : []),
      ...(c.skip ? [`${c.skip} B skipped`] : []),
      ...Object.entries(c.parameters)
        .filter(([, v]) => !Array.isArray(v))
        .map(([k, v]) => `${k} ${v}`),
    ].join(", ");
</script>

<div class="flex h-full max-lg:block">
  <aside
    class="flex w-[270px] shrink-0 flex-col gap-3 overflow-auto border-r border-line bg-base-200 p-4 max-lg:w-full"
    aria-label="The file and its parts"
  >
    <div>
      <h1 class="text-lg font-bold">Unknown audio</h1>
      <p class="num break-words text-quiet">{path}</p>
    </div>
    {#if file}
      <p>
        {bytes(file.size)}.
        {#if file.table_at !== null}
          A table at byte <span class="num">{spaced(file.table_at)}</span> points to
          {count(file.records, "part")}.
        {:else}No table was found; give the first and the last byte yourself.{/if}
      </p>
      <ul class="min-h-0 grow overflow-auto border-y border-line" aria-label="Parts">
        {#each file.spans as s, n (s.at)}
          <li>
            <button
              class="num flex w-full justify-between px-2 py-1 text-left hover:bg-base-300 {part[0] === s.at
                ? 'bg-base-300 font-semibold'
                : ''}"
              aria-pressed={part[0] === s.at}
              onclick={() => look(s.at, s.at + s.length)}
              ><span>{n + 1} · byte {spaced(s.at)}</span><span class="text-quiet">{bytes(s.length)}</span
              ></button
            >
          </li>
        {/each}
      </ul>
      <form
        class="grid grid-cols-2 gap-2"
        onsubmit={(e) => {
          e.preventDefault();
          look(...typed);
        }}
      >
        {#each ["from byte", "to byte"] as label, i (label)}
          <label class="block"
            ><span class="text-quiet">{label}</span>
            <input
              class="input input-sm num mt-0.5 w-full"
              type="number"
              min="0"
              max={file.size}
              bind:value={typed[i]}
            /></label
          >
        {/each}
        <button class="btn btn-sm col-span-2">Judge this part</button>
      </form>
    {/if}
    <a class="btn btn-sm" href="#/{game_id}/bench/{encodeURIComponent(path)}">Look at its bytes</a>
  </aside>
  <section class="flex min-w-0 grow flex-col gap-3 overflow-auto p-4" aria-label="What it could be">
    {#if problem}<ProblemPanel {problem} />{/if}
    {#if !error && (looked.isPending || judged.isPending)}<p class="text-quiet">
        Listening to the bytes …
      </p>{/if}
    {#if ranked?.note}<p>{ranked.note}</p>{/if}
    {#if ranked?.candidates.length}
      <h2 class="text-quiet">What it could be, by what is measured; press one to hear it</h2>
      <ol class="border-t border-line" aria-label="Readings">
        {#each ranked.candidates as c, n (n)}
          <li class="border-b border-line">
            <button
              class="grid w-full grid-cols-[110px_1fr_86px] items-center gap-4 border-l-[3px] px-2 py-1.5 text-left hover:bg-base-200 {chosen?.codec ===
                c.codec && values(chosen) === values(c)
                ? 'border-primary bg-base-300'
                : 'border-transparent'}"
              onclick={() => {
                keep(c);
                show(c, true);
              }}
            >
              <Comb audio={c.audio} width={104} height={30} />
              <span class="min-w-0">
                <span class="block"
                  ><strong>{c.label}</strong> <span class="text-quiet">{values(c)}</span></span
                >
                <span class="block truncate text-quiet">{c.reasons.join("; ")}</span>
              </span>
              <span class="num text-right"
                >{c.score.toFixed(1)} dB
                <span class="block text-quiet">{c.verdict}</span></span
              >
            </button>
          </li>
        {/each}
      </ol>
    {/if}
    {#if chosen}
      <Turn
        reading={chosen}
        bind:rate
        rates={file?.rates ?? []}
        why={file?.rate ? "" : (ranked?.why ?? "")}
        channels={file?.most_channels ?? 1}
        {turn}
        {draft}
      />
    {/if}
  </section>
</div>
