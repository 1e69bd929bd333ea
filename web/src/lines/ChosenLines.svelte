<script lang="ts">
  import { api } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { count, spaced } from "../lib/format";
  import ChosenBar from "../list/ChosenBar.svelte";
  import PutIn from "../locate/PutIn.svelte";
  import { tellSaid } from "../locate/said";
  import { putIn } from "../swap/swaps";
  import { treat, type Way } from "./alike";
  import { linesChanged } from "./lines.svelte";
  import TreatMany from "./TreatMany.svelte";

  /** How many lines are chosen, and what can be done with all of them. */
  let {
    chosen,
    total,
    files,
    none,
  }: { chosen: ReadonlySet<number>; total: number; files: () => void; none: () => void } = $props();
  let busy = $state(false);
  let treating = $state(false);
  let putting = $state(false);

  async function attempt(work: () => Promise<unknown>) {
    if (busy) return;
    busy = true;
    app.hush();
    await app.attempted(work());
    busy = false;
  }

  const mark = (done: boolean) =>
    attempt(async () => {
      const params = { path: { game_id: app.gameId } };
      const body = { chosen: [...chosen], said: { done }, template: "" };
      const made = await app.attempt(api.POST("/api/games/{game_id}/sayings", { params, body }));
      if (made)
        await tellSaid(made, `${count(made.streams, "line")} ${done ? "done" : "not done"}.`, linesChanged);
    });

  const alike = (way: Way) =>
    attempt(async () => {
      const swaps = await treat({ chosen: [...chosen] }, way);
      app.say(`${count(swaps.length, "take")} treated alike.`, {
        label: "Undo",
        run: () => void app.attempted(treat({ swaps }, { back: true })),
      });
    });
</script>

<ChosenBar {chosen} {busy} {none}>
  {#snippet told()}of {spaced(total)} lines chosen{/snippet}
  <button class="btn btn-sm" onclick={() => mark(true)}>☑ Done</button>
  <button class="btn btn-sm" onclick={() => mark(false)}>☐ Not done</button>
  <button class="btn btn-sm" onclick={files}>Files for them …</button>
  <button class="btn btn-sm" onclick={() => (treating = !busy)}>Treat alike …</button>
  <button
    class="btn btn-sm"
    title="Those that are not prepared, or failed, too"
    onclick={() => attempt(() => treat({ chosen: [...chosen] }, { fit: true }))}>Prepare again</button
  >
  <button class="btn btn-sm" onclick={() => (putting = !busy)}>Put into the mod …</button>
</ChosenBar>

{#if treating}<TreatMany lines={chosen.size} start={alike} close={() => (treating = false)} />{/if}
{#if putting}
  <PutIn
    streams={chosen.size}
    put={(begin, level) =>
      attempt(async () => {
        await putIn([...chosen], begin, level);
        await linesChanged();
      })}
    close={() => (putting = false)}
  />
{/if}
