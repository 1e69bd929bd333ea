<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import Modal from "../components/Modal.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, asProblem, got, type DraftOut, type TriedLayout } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { count } from "../lib/format";
  import { nameOf, type Draft } from "./draft.svelte";

  /** How a layout for a file may begin: what is seen in it, what known layouts say to it, or nothing. */
  let {
    game_id,
    path,
    draft,
    goTo,
    close,
  }: { game_id: number; path: string; draft: Draft; goTo: (at: number) => void; close: () => void } =
    $props();
  let modal: Modal;

  const params = $derived({ path: { game_id }, query: { path } });
  const seen = createQuery(() => ({
    queryKey: ofGame(game_id, "bench", path, "drafts"),
    queryFn: () => got(api.GET("/api/games/{game_id}/bench/drafts", { params })),
    meta: { shown: true },
  }));
  const known = createQuery(() => ({
    queryKey: ofGame(game_id, "bench", path, "tries"),
    queryFn: () => got(api.GET("/api/games/{game_id}/bench/tries", { params })),
    meta: { shown: true },
  }));
  const pinned = createQuery(() => ({
    queryKey: ofGame(game_id, "pins"),
    queryFn: () => got(api.GET("/api/games/{game_id}/pins", { params: { path: { game_id } } })),
    meta: { shown: true },
  }));
  /** Where a layout may be chosen: this file, its folder, the game. */
  const file = $derived(path.split(" › ")[0]!);
  const places = $derived([
    { path: file, words: "this file" },
    ...(file.includes("/") ? [{ path: file.slice(0, file.lastIndexOf("/") + 1), words: "its folder" }] : []),
    { path: "", words: "this game" },
  ]);
  const fitting = $derived((known.data ?? []).filter((one) => one.fits));
  const pinOf = (place: string) => pinned.data?.find((pin) => pin.path === place)?.slug ?? "";

  const pin = (place: string, slug: string) =>
    draft.attempt(async () => {
      const params = { path: { game_id } };
      await got(api.PUT("/api/games/{game_id}/pins", { params, body: { path: place, slug } }));
      await pinned.refetch();
      app.say(slug ? `Chosen. The next survey reads by ${slug} first.` : "The choice was taken away.", {
        label: "Survey again",
        run: async () => {
          await app.attempt(api.POST("/api/games/{game_id}/survey", { params }));
          app.wake();
        },
      });
    });

  /** The bench for another file of the same folder. */
  function benchOf(name: string) {
    const folder = path.match(/^.*(?:\/| › )/)?.[0] ?? "";
    return `#/${game_id}/bench/${encodeURIComponent(folder + name)}`;
  }

  const percent = (share: number) => `${(share * 100).toFixed(share > 0.995 ? 0 : 1)} %`;

  async function take(one: DraftOut) {
    modal.close();
    await draft.make({ text: one.text, name: "" });
  }

  async function empty() {
    modal.close();
    await draft.guess();
  }

  async function open(one: TriedLayout) {
    const line = draft.lines.find((l) => nameOf(l) === one.slug || l.slug === one.slug);
    modal.close();
    if (line) await draft.choose(line);
  }

  function look(at: number) {
    modal.close();
    goTo(at);
  }
</script>

<Modal bind:this={modal} label="Begin a layout" width="w-[54rem]" tall onclose={close}>
  <div class="flex items-start justify-between gap-4">
    <div class="min-w-0">
      <h2 class="text-lg font-bold">Begin a layout</h2>
      <p class="num break-words text-quiet">{path}</p>
    </div>
    <div class="flex shrink-0 gap-2">
      <button class="btn btn-sm" onclick={empty}>Begin with little</button>
      <button class="btn btn-sm" onclick={() => modal.close()}>Close</button>
    </div>
  </div>
  <section class="mt-4" aria-label="From what is seen in the file">
    <h3 class="font-semibold">From what is seen in the file</h3>
    {#if seen.error}<ProblemPanel problem={asProblem(seen.error)} />
    {:else if seen.isPending}<p class="text-quiet" role="status">Looking for tables …</p>
    {:else}
      <ol>
        {#each seen.data ?? [] as one, n (n)}
          <li class="flex items-start gap-4 border-b border-line py-2">
            <span class="num w-16 shrink-0 text-right" title="of its bytes are explained"
              >{percent(one.share)}</span
            >
            <div class="min-w-0 grow">
              <p class="font-medium">{one.title}</p>
              <ul class="text-quiet">
                {#each one.evidence as line (line)}<li>{line}</li>{/each}
              </ul>
            </div>
            {#if one.beside}
              <a
                class="btn btn-sm shrink-0 {n ? '' : 'btn-primary'}"
                href={benchOf(one.beside)}
                onclick={() => modal.close()}>Go there</a
              >
            {:else}
              <button class="btn btn-sm shrink-0 {n ? '' : 'btn-primary'}" onclick={() => take(one)}
                >Take this one</button
              >
            {/if}
          </li>
        {:else}
          <li class="py-2 text-quiet">
            No table of places was seen, neither here nor in what stands beside it: it may be packed or
            locked.
          </li>
        {/each}
      </ol>
    {/if}
  </section>
  <section class="mt-4" aria-label="What known layouts say">
    <h3 class="font-semibold">What known layouts say</h3>
    {#if known.error}<ProblemPanel problem={asProblem(known.error)} />
    {:else if known.isPending}<p class="text-quiet" role="status">Trying them …</p>
    {:else}
      {#if fitting.length > 1 || pinned.data?.length}
        <fieldset class="my-2 flex flex-wrap items-center gap-x-4 gap-y-2" aria-label="Which one comes first">
          <legend class="mb-1"
            >Of several that fit, the one with most evidence is taken. Choose another one:</legend
          >
          {#each places as place (place.path)}
            <label class="flex items-center gap-2"
              ><span class="text-quiet">{place.words}</span>
              <select
                class="select select-sm w-48"
                value={pinOf(place.path)}
                onchange={(e) => pin(place.path, e.currentTarget.value)}
              >
                <option value="">by evidence</option>
                {#each known.data ?? [] as one (one.slug)}
                  {#if one.fits || one.slug === pinOf(place.path)}<option value={one.slug}>{one.slug}</option
                    >{/if}
                {/each}
              </select></label
            >
          {/each}
        </fieldset>
      {/if}
      <ol>
        {#each known.data ?? [] as one (one.slug)}
          <li class="flex items-start gap-4 border-b border-line py-2">
            <span class="num w-16 shrink-0 text-right" title="of its bytes are explained"
              >{one.share ? percent(one.share) : "–"}</span
            >
            <div class="min-w-0 grow">
              <p>
                <strong>{one.slug}</strong>
                <span class="text-quiet">{[one.describes, one.title].filter(Boolean).join(", ")}</span>
                {#if one.fits}<span class="text-success">✓ fits</span>{/if}
              </p>
              <p class="text-quiet">
                {#if !one.fits}
                  {one.marks_right} of {one.marks} bytes of its marks, {one.regions_read} of {count(
                    one.regions,
                    "region",
                  )}
                  read{one.against ? `: ${one.against}` : ""}.
                {/if}
              </p>
            </div>
            {#if one.offset >= 0}
              <button class="btn btn-sm shrink-0" onclick={() => look(one.offset)}>Look there</button>
            {/if}
            <button class="btn btn-sm shrink-0" onclick={() => open(one)}>Open it</button>
          </li>
        {:else}<li class="py-2 text-quiet">There are no layouts yet.</li>{/each}
      </ol>
    {/if}
  </section>
</Modal>
