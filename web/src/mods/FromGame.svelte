<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import Modal from "../components/Modal.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, asProblem, got, type Game, type Mod } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { count } from "../lib/format";

  /** The mods of the other games, of which one is brought here: as for a new build of the same game in a folder of its own. */
  let { bring, close }: { bring: (mod: Mod, game: Game) => Promise<unknown>; close: () => void } = $props();
  let modal: Modal;

  const others = $derived(app.games.filter((g) => g.id !== app.gameId));
  const found = createQuery(() => ({
    queryKey: ["mods of other games", ...others.map((g) => g.id)],
    queryFn: () =>
      Promise.all(
        others.map(async (game) => ({
          game,
          mods: await got(api.GET("/api/games/{game_id}/mods", { params: { path: { game_id: game.id } } })),
        })),
      ),
    staleTime: 0,
    meta: { shown: true },
  }));
  const full = $derived(
    (found.data ?? [])
      .map(({ game, mods }) => ({ game, mods: mods.filter((m) => m.swaps || m.files) }))
      .filter(({ mods }) => mods.length),
  );
</script>

<Modal bind:this={modal} label="Bring a mod from another game" width="w-[36rem]" onclose={close}>
  <h2 class="text-lg font-bold">Bring a mod from another game</h2>
  <p class="text-quiet">
    A copy comes here, and is judged against this build. The mod itself stays where it is.
  </p>
  {#if found.error}<ProblemPanel problem={asProblem(found.error)} />{/if}
  {#each full as { game, mods } (game.id)}
    <h3 class="mt-3 font-semibold">{game.name} <span class="text-quiet">{game.build}</span></h3>
    <ul>
      {#each mods as mod (mod.id)}
        <li class="flex items-center gap-4 border-b border-line py-1.5">
          <span class="grow">{mod.name}</span>
          <span class="num text-quiet">{count(mod.swaps, "swap")}, {count(mod.files, "file")}</span>
          <button
            class="btn btn-sm"
            aria-label="Bring {mod.name} of {game.name}"
            onclick={() => bring(mod, game)}>Bring it here</button
          >
        </li>
      {/each}
    </ul>
  {:else}
    <p class="mt-3">
      {found.isPending ? "Looking …" : "No other game of the library has a mod with something in it."}
    </p>
  {/each}
  <div class="mt-4 text-right"><button class="btn" onclick={() => modal.close()}>Close</button></div>
</Modal>
