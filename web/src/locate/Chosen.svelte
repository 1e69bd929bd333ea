<script lang="ts">
  import { api, type SayingOut } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { spaced } from "../lib/format";
  import { KINDS } from "../lib/items";
  import NameMany from "./NameMany.svelte";
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
  let busy = $state(false);
  const many = (n: number) => `${spaced(n)} streams`;

  async function say(said: { marked?: boolean; kind?: string }, text: (n: number) => string) {
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
    const made = await app.attempt(call);
    busy = false;
    if (!made) return;
    await changed();
    tellSaid(made, text(made.streams), changed);
  }
</script>

<div
  role="toolbar"
  aria-label="What is chosen"
  aria-busy={busy}
  class="-mx-2 flex flex-wrap items-center gap-2 rounded-box bg-base-300 px-2 py-1"
>
  <p class="grow"><strong class="num text-base">{spaced(chosen.size)}</strong> of {spaced(total)} chosen</p>
  <button
    class="btn btn-sm"
    disabled={busy}
    onclick={() => say({ marked: true }, (n) => `${many(n)} were marked.`)}>◆ Mark</button
  >
  <button
    class="btn btn-sm"
    disabled={busy}
    onclick={() => say({ marked: false }, (n) => `The marks of ${many(n)} were taken away.`)}>◇ Unmark</button
  >
  <select
    class="select select-sm w-28"
    aria-label="Kind of all that are chosen"
    disabled={busy}
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
  <button class="btn btn-sm" disabled={busy} onclick={() => (naming = true)}>Name …</button>
  <button class="btn btn-sm" onclick={takeOut}>Take out …</button>
  <button class="btn btn-sm btn-ghost" title="Escape" onclick={none}>Let go</button>
</div>

{#if naming}
  <NameMany
    chosen={[...chosen]}
    close={() => (naming = false)}
    name={(call) => tell(call, (n) => `${many(n)} were named.`)}
  />
{/if}
