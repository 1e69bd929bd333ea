<script lang="ts">
  import { api, asProblem, got, type Game, type Made, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { count } from "../lib/format";
  import Modal from "./Modal.svelte";
  import ProblemPanel from "./ProblemPanel.svelte";

  /** Says what goes with a game before it is forgotten, and offers to bring it back. */
  let { game, close }: { game: Game; close: () => void } = $props();
  let modal: Modal;
  let keep: HTMLButtonElement;
  let made = $state<Made | null>(null);
  let now = $state(false);
  let busy = $state(false);
  let problem = $state<ProblemText | null>(null);

  const lost = $derived.by(() => {
    if (!made) return [];
    const words: [number, string][] = [
      [made.names, "name"],
      [made.marks, "mark"],
      [made.notes, "note"],
      [made.swaps, "swap"],
      [made.files, "replaced file"],
      [made.keys, "key"],
    ];
    return words.filter(([n]) => n).map(([n, word]) => count(n, word));
  });

  $effect(() => {
    keep.focus();
    const path = { game_id: game.id };
    got(api.GET("/api/games/{game_id}/made", { params: { path } })).then(
      (found) => (made = found),
      (error) => (problem = asProblem(error)),
    );
  });

  async function bringBack(game_id: number) {
    const path = { game_id };
    const back = await app.attempt(api.POST("/api/forgotten-games/{game_id}", { params: { path } }));
    await app.loadGames();
    if (back) app.go("survey", "", game_id);
  }

  async function forget() {
    const { id, name } = game;
    const path = { game_id: id };
    const back = now ? undefined : { label: "Bring it back", run: () => void bringBack(id) };
    busy = true;
    try {
      await got(api.DELETE("/api/games/{game_id}", { params: { path, query: { now } } }));
    } catch (error) {
      problem = asProblem(error);
      busy = false;
      return;
    }
    modal.close();
    await app.loadGames();
    location.hash = "/";
    app.say(`${name} is forgotten.`, back);
  }
</script>

<Modal bind:this={modal} label="Forget {game.name}?" width="w-[32rem]" onclose={close}>
  <h2 class="text-xl font-bold">Forget {game.name}?</h2>
  {#if problem}<div class="mt-3"><ProblemPanel {problem} /></div>{/if}
  <p class="mt-2" aria-live="polite">
    {#if !made}Looking what goes with it …
    {:else if lost.length}Its surveys go, and what you made: {lost.join(", ")}.
    {:else}Its surveys go; you have made nothing in it yet.{/if}
  </p>
  <p class="mt-1 text-quiet">The game's own folder is not touched.</p>
  {#if made?.installed}
    <p class="mt-2 text-warning">
      ▲ Something is installed in it, and stays. <a
        class="underline"
        href="#/{game.id}/install"
        onclick={() => modal.close()}>Restore the original first</a
      >, or register the game again later to do so.
    </p>
  {/if}
  <label class="mt-3 flex items-start gap-2">
    <input type="checkbox" class="checkbox checkbox-sm mt-0.5" bind:checked={now} />
    <span>
      Free its room on the disk at once
      <span class="block text-quiet"
        >{now
          ? "It can't be brought back then."
          : "Else it can be brought back for 15 minutes, here or in the settings."}</span
      >
    </span>
  </label>
  <div class="mt-4 flex justify-end gap-2">
    <button bind:this={keep} class="btn" onclick={() => modal.close()}>Keep it</button>
    <button class="btn btn-primary" disabled={busy || !made} onclick={forget}>Forget it</button>
  </div>
</Modal>
