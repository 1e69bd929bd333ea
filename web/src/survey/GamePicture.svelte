<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { api, got } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { ofGame } from "../lib/cache";
  import { bytes, count, spaced } from "../lib/format";

  /** All bytes of the game to scale, told apart by what they are; a press on a part narrows the list to it. */
  let {
    within,
    chosen,
    listen,
    into,
    choose,
  }: {
    /** The folder that is shown; "" is the game's own. */
    within: string;
    /** What the list is narrowed to. */
    chosen: string;
    /** Whether there is something to hear. */
    listen: boolean;
    into: (folder: string) => void;
    choose: (path: string) => void;
  } = $props();

  const KINDS: Record<string, [text: string, look: string]> = {
    holds: ["archives with sound", "holds"],
    sound: ["sounds", "sound"],
    archive: ["other archives", "archive"],
    locked: ["locked", "locked"],
    other: ["not recognised", "other"],
  };
  const picture = createQuery(() => ({
    queryKey: ofGame(app.gameId, "picture", within),
    queryFn: () =>
      got(
        api.GET("/api/games/{game_id}/picture", {
          params: { path: { game_id: app.gameId }, query: { within } },
        }),
      ),
    placeholderData: (before) => before,
  }));
  const drawn = $derived(picture.data);

  function told(part: {
    name: string;
    files: number;
    size: number;
    streams: number;
    folder: boolean;
  }): string {
    const inside = part.folder ? `, ${count(part.files, "file")}` : "";
    return `${part.name}: ${bytes(part.size)}${inside}${part.streams ? `, ${count(part.streams, "stream")}` : ""}`;
  }
</script>

{#if drawn?.size}
  <section class="mt-3" aria-label="Picture of the game">
    <p>
      {drawn.sentence}
      {#if listen}<a class="link text-primary" href="#/{app.gameId}/locate">Listen in Locate</a>{/if}
    </p>
    {#if within}
      <p class="mt-1 text-quiet">
        <button class="text-primary underline" onclick={() => into("")}>the whole game</button>
        {#each within.split("/") as name, i (i)}
          / <button
            class="underline"
            onclick={() =>
              into(
                within
                  .split("/")
                  .slice(0, i + 1)
                  .join("/"),
              )}>{name}</button
          >
        {/each}
      </p>
    {/if}
    <div class="mt-2 flex h-9 gap-px overflow-hidden rounded-[6px]" role="group" aria-label="Bytes to scale">
      {#each drawn.parts as part (part.path)}
        <button
          class="part {chosen === part.path ? 'chosen' : ''}"
          style="flex: {part.size} 0 0"
          title={told(part)}
          aria-label={told(part)}
          aria-pressed={chosen === part.path}
          onclick={() => choose(chosen === part.path ? "" : part.path)}
          ondblclick={() => part.folder && into(part.path)}
        >
          {#each Object.keys(KINDS).filter((kind) => part.kinds[kind]) as kind (kind)}
            <span class="kind {KINDS[kind]![1]}" style="flex: {part.kinds[kind]} 0 0"></span>
          {/each}
          {#if part.size > drawn.size * 0.08}<span class="name">{part.name}</span>{/if}
        </button>
      {/each}
      {#if drawn.smaller}
        <span
          class="kind other min-w-[2px]"
          style="flex: {drawn.smaller_bytes} 0 0"
          title="{spaced(drawn.smaller)} smaller ones: {bytes(drawn.smaller_bytes)}"
        ></span>
      {/if}
    </div>
    <ul class="mt-1.5 flex flex-wrap gap-x-5 gap-y-0.5 text-quiet">
      {#each drawn.kinds as kind (kind.kind)}
        <li class="flex items-center gap-1.5">
          <i class="kind {KINDS[kind.kind]![1]} inline-block h-3 w-4 rounded-[2px]"></i>
          {KINDS[kind.kind]![0]}
          <span class="num">{bytes(kind.bytes)} · {count(kind.files, "file")}</span>
        </li>
      {/each}
      {#if chosen && drawn.parts.some((part) => part.path === chosen && part.folder)}
        <li>
          <button class="text-primary underline" onclick={() => into(chosen)}>look into {chosen}</button>
        </li>
      {/if}
    </ul>
  </section>
{/if}

<style>
  .part {
    position: relative;
    display: flex;
    min-width: 3px;
    overflow: hidden;
  }
  .part.chosen {
    outline: 2px solid var(--color-primary);
    outline-offset: -2px;
    z-index: 1;
  }
  .part:hover .kind {
    filter: brightness(1.1);
  }
  .kind {
    min-width: 0;
    height: 100%;
  }
  i.kind {
    height: 0.75rem;
  }
  .name {
    position: absolute;
    inset: auto auto 3px 4px;
    max-width: calc(100% - 8px);
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    padding: 0 4px;
    border-radius: 3px;
    font-size: 0.85rem;
    background: var(--color-base-100);
  }
  /* Told apart by their patterns, too. */
  .holds {
    background: color-mix(in oklab, var(--color-primary) 72%, var(--color-base-100));
  }
  .sound {
    background: repeating-linear-gradient(90deg, var(--color-primary) 0 2px, var(--color-base-200) 2px 5px);
  }
  .archive {
    background: var(--edge);
  }
  .locked {
    background: repeating-linear-gradient(45deg, var(--color-info) 0 4px, var(--color-base-200) 4px 7px);
  }
  .other {
    background: radial-gradient(circle, var(--edge) 1px, var(--color-base-300) 1.3px) 0 0 / 6px 6px;
  }
</style>
