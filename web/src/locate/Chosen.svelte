<script lang="ts">
  import { api, type SayingOut } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { spaced } from "../lib/format";
  import { KINDS } from "../lib/items";
  import ChosenBar from "../list/ChosenBar.svelte";
  import { putIn } from "../swap/swaps";
  import NameMany from "./NameMany.svelte";
  import PutIn from "./PutIn.svelte";
  import { tellSaid } from "./said";

  /** How many streams are chosen, and what can be done with all of them. */
  let {
    chosen,
    total,
    takeOut,
    changed,
    none,
  }: {
    chosen: ReadonlySet<number>;
    /** How many the list has. */
    total: number;
    takeOut: () => void;
    /** Something was said of them, or taken back. */
    changed: () => Promise<void>;
    /** Let them go. */
    none: () => void;
  } = $props();
  let naming = $state(false);
  let putting = $state(false);
  let busy = $state(false);
  const many = (n: number) => `${spaced(n)} streams`;

  async function say(said: { marked?: boolean; kind?: string }, text: (n: number) => string) {
    if (busy) return; // a button that can't be pressed meanwhile would lose the focus
    await tell(
      api.POST("/api/games/{game_id}/sayings", {
        params: { path: { game_id: app.gameId } },
        body: { chosen: [...chosen], said, template: "" },
      }),
      text,
    );
  }

  /** Tell what was done, and how it is taken back. */
  async function tell(call: Promise<{ data?: SayingOut }>, text: (n: number) => string) {
    busy = true;
    app.hush();
    const made = await app.attempt(call);
    busy = false;
    if (made) await tellSaid(made, text(made.streams), changed);
  }
</script>

<ChosenBar {chosen} {busy} {none}>
  {#snippet told()}of {spaced(total)} chosen{/snippet}
  <button class="btn btn-sm" onclick={() => say({ marked: true }, (n) => `${many(n)} were marked.`)}
    >◆ Mark</button
  >
  <button
    class="btn btn-sm"
    onclick={() => say({ marked: false }, (n) => `The marks of ${many(n)} were taken away.`)}>◇ Unmark</button
  >
  <select
    class="select select-sm w-28"
    aria-label="Kind of all that are chosen"
    value="…"
    onchange={(e) => {
      const kind = e.currentTarget.value;
      e.currentTarget.value = "…";
      void say({ kind }, (n) => `${many(n)} are ${kind || "guessed"} now.`);
    }}
  >
    <option value="…" disabled>Kind …</option>
    {#each KINDS as kind (kind)}<option value={kind}>{kind}</option>{/each}
    <option value="">as guessed</option>
  </select>
  <button class="btn btn-sm" onclick={() => (naming = !busy)}>Name …</button>
  <button class="btn btn-sm" onclick={() => (putting = !busy)}>Put into the mod …</button>
  <button class="btn btn-sm" onclick={takeOut}>Take out …</button>
</ChosenBar>

{#if putting}
  <PutIn
    streams={chosen.size}
    put={async (begin, level) => {
      busy = true;
      app.hush();
      await putIn([...chosen], begin, level);
      busy = false;
    }}
    close={() => (putting = false)}
  />
{/if}
{#if naming}
  <NameMany
    chosen={[...chosen]}
    close={() => (naming = false)}
    name={(call) => tell(call, (n) => `${many(n)} were named.`)}
  />
{/if}
