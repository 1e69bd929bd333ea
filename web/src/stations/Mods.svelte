<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { tick } from "svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import {
    api,
    asProblem,
    attempted,
    got,
    type Game,
    type Mod,
    type ModChange,
    type ProblemText,
  } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { everythingIn, type Found } from "../lib/folders";
  import { cache, ofGame } from "../lib/cache";
  import { count, spaced } from "../lib/format";
  import Conflicts from "../mods/Conflicts.svelte";
  import Carry from "../mods/Carry.svelte";
  import FromGame from "../mods/FromGame.svelte";
  import TakeIn from "../mods/TakeIn.svelte";
  import ModFacts from "../mods/ModFacts.svelte";

  /** A game's mods: which one is worked on, which are on, in which order, and what they say of themselves. */
  const game_id = app.gameId;
  const path = { game_id };
  let problem = $state<ProblemText | null>(null);
  /** Of which mod the facts are shown. */
  let open = $state(0);
  let dragged = $state(0);
  let bringing = $state(false);
  let taking = $state(false);
  /** What was dropped on this screen. */
  let dropped = $state.raw<Found[]>([]);

  const found = createQuery(() => ({
    queryKey: ofGame(game_id, "mods"),
    queryFn: () => got(api.GET("/api/games/{game_id}/mods", { params: { path } })),
    staleTime: 0,
    meta: { shown: true },
  }));
  const mods = $derived(found.data ?? []);
  /** The mod of which is shown how it stands in this build. */
  const judged = $derived(mods.find((m) => String(m.id) === app.detail));
  const on = $derived(mods.filter((m) => m.used).length);

  /** Do something, then have everything of the game asked for anew: another mod may be worked on, another swap win. */
  const change = (what: () => Promise<unknown>) =>
    attempted(
      async () => {
        problem = null;
        await what();
        await app.loadGames();
        await cache.invalidateQueries({ queryKey: ofGame(game_id) });
        void app.refreshRoute();
      },
      (told) => (problem = told),
    );
  const say = (mod: Mod, body: ModChange) =>
    change(() => got(api.PATCH("/api/mods/{mod_id}", { params: { path: { mod_id: mod.id } }, body })));
  const workOn = (mod: Mod) =>
    change(() => got(api.POST("/api/mods/{mod_id}/work-on", { params: { path: { mod_id: mod.id } } })));

  async function make(name: string, copy_of: number | null = null) {
    await change(async () => {
      const made = await got(
        api.POST("/api/games/{game_id}/mods", { params: { path }, body: { name, copy_of } }),
      );
      open = made.id;
    });
    await tick();
    document.querySelector<HTMLInputElement>("#name-of-mod")?.select();
  }

  /** A copy of another game's mod, and how it stands in this build. */
  async function bring(mod: Mod, game: Game) {
    const taken = mods.some((m) => m.name === mod.name);
    const body = { name: taken ? `${mod.name} of ${game.name}` : mod.name, copy_of: mod.id };
    bringing = false;
    let made = 0;
    await change(async () => {
      made = (await got(api.POST("/api/games/{game_id}/mods", { params: { path }, body }))).id;
      const judging = { params: { path: { mod_id: made } } };
      app.started(await got(api.POST("/api/mods/{mod_id}/judgement", judging)));
    });
    if (made) app.go("mods", String(made));
  }

  /** What was taken in is there: how it stands in this build. */
  async function taken(mod: number, ours: boolean) {
    [taking, dropped] = [false, []];
    await change(async () => {});
    if (ours) app.go("mods", String(mod));
  }

  async function remove(mod: Mod) {
    const params = { path: { mod_id: mod.id } };
    await change(() => got(api.DELETE("/api/mods/{mod_id}", { params })));
    if (problem) return;
    app.say(`${mod.name} was removed.`, {
      label: "Undo",
      run: () => void change(() => got(api.POST("/api/mods/{mod_id}/bring-back", { params }))),
    });
  }

  /** Put a mod where another stands. */
  async function move(mod: Mod, to: number) {
    if (to < 0 || to >= mods.length) return;
    const order = mods.map((m) => m.id).filter((id) => id !== mod.id);
    order.splice(to, 0, mod.id);
    await change(() =>
      got(api.PUT("/api/games/{game_id}/mods", { params: { path }, body: { mods: order } })),
    );
    await tick();
    document.querySelector<HTMLElement>(`[data-mod="${mod.id}"]`)?.focus();
  }

  function onkeydown(e: KeyboardEvent, mod: Mod, at: number) {
    const by = e.altKey ? { ArrowUp: -1, ArrowDown: 1 }[e.key] : undefined;
    if (!by) return;
    e.preventDefault();
    void move(mod, at + by);
  }

  const made = (mod: Mod) =>
    [
      ...(mod.swaps ? [`${mod.ready} of ${mod.swaps} fit`] : []),
      ...(mod.files ? [count(mod.files, "file")] : []),
    ].join(", ") || "empty";
</script>

{#if bringing}<FromGame {bring} close={() => (bringing = false)} />{/if}
{#if taking}<TakeIn given={dropped} {taken} close={() => ([taking, dropped] = [false, []])} />{/if}
{#if judged}
  {#key judged.id}<Carry mod={judged.id} name={judged.name} />{/key}
{:else}
  <!-- svelte-ignore a11y_no_static_element_interactions (what is dropped can be chosen, too) -->
  <div
    class="mx-auto min-h-full max-w-6xl space-y-5 px-4 py-4"
    ondragover={(e) => !dragged && e.preventDefault()}
    ondrop={async (e) => {
      if (dragged || !e.dataTransfer?.files.length) return;
      e.preventDefault();
      dropped = await everythingIn(e.dataTransfer);
      taking = true;
    }}
  >
    <div class="flex flex-wrap items-start justify-between gap-x-6 gap-y-3">
      <div class="min-w-64 flex-1">
        <h1 class="text-xl font-bold">Mods</h1>
        <p class="text-balance text-quiet">
          Those that are on are rebuilt and installed together. Different streams of one bank go together;
          where two want the same stream, the lower one wins.
        </p>
      </div>
      <div class="flex flex-wrap gap-2">
        {#if app.games.length > 1}
          <button class="btn" onclick={() => (bringing = true)}>From another game …</button>
        {/if}
        <button class="btn" onclick={() => (taking = true)}>Take in a mod …</button>
        <button class="btn btn-primary" onclick={() => make(`Mod ${mods.length + 1}`)}>New mod</button>
      </div>
    </div>
    {#if problem}<ProblemPanel {problem} close={() => (problem = null)} />{/if}
    {#if found.error}<ProblemPanel problem={asProblem(found.error)} />{/if}

    <ol aria-label="Mods of this game">
      {#each mods as mod, at (mod.id)}
        <li
          class="border-b border-line {dragged === mod.id ? 'opacity-50' : ''}"
          ondragover={(e) => dragged && e.preventDefault()}
          ondrop={(e) => {
            e.preventDefault();
            const moved = mods.find((m) => m.id === dragged);
            dragged = 0;
            if (moved && moved.id !== mod.id) void move(moved, at);
          }}
        >
          <div class="flex flex-wrap items-center gap-x-4 gap-y-2 py-2">
            <button
              class="btn btn-ghost btn-sm btn-square cursor-grab"
              draggable="true"
              data-mod={mod.id}
              title="Drag it, or Alt ↑ and Alt ↓"
              aria-label="Place {at + 1} of {mods.length}: {mod.name}. Alt and an arrow move it"
              ondragstart={() => (dragged = mod.id)}
              ondragend={() => (dragged = 0)}
              onkeydown={(e) => onkeydown(e, mod, at)}>⠿</button
            >
            <label class="flex items-center gap-2">
              <input
                type="checkbox"
                class="toggle toggle-sm toggle-primary"
                checked={mod.used}
                aria-label="{mod.name} is on"
                onchange={(e) => say(mod, { used: e.currentTarget.checked })}
              />
              <span class="w-7 text-quiet">{mod.used ? "on" : "off"}</span>
            </label>
            <button
              class="min-w-40 grow text-left"
              aria-expanded={open === mod.id}
              onclick={() => (open = open === mod.id ? 0 : mod.id)}
            >
              <span class="font-semibold">{mod.name}</span>
              <span class="text-quiet"
                >{[mod.version, mod.author && `by ${mod.author}`].filter(Boolean).join(" ")}</span
              >
            </button>
            <span class="w-36">
              <span class="num text-quiet">{made(mod)}</span>
              {#if mod.lost}
                <a class="block text-warning underline" href="#/{game_id}/mods/{mod.id}"
                  >{spaced(mod.lost)} not in place</a
                >
              {/if}
            </span>
            {#if mod.current}
              <span class="w-28 text-success">✓ worked on</span>
            {:else}
              <button class="btn btn-sm w-28" aria-label="Work on it: {mod.name}" onclick={() => workOn(mod)}
                >Work on it</button
              >
            {/if}
            <button
              class="btn btn-sm"
              aria-label="Copy {mod.name}"
              onclick={() => make(`${mod.name}, copy`, mod.id)}>Copy</button
            >
            <button
              class="btn btn-sm"
              aria-label="Remove {mod.name}"
              disabled={mods.length < 2}
              onclick={() => remove(mod)}>Remove</button
            >
          </div>
          {#if open === mod.id}<ModFacts {change} {mod} {game_id} say={(body) => say(mod, body)} />{/if}
        </li>
      {/each}
    </ol>
    {#if on > 1}<Conflicts {change} />{/if}
  </div>
{/if}
