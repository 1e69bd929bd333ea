<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import { api, attempted, every, got, type Key, type ProblemText } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { cache, ofGame } from "../lib/cache";
  import { count } from "../lib/format";
  import ProblemPanel from "./ProblemPanel.svelte";

  /** The game's keys: add one, try all on what is locked, see by which evidence an archive opens. */
  interface Trial {
    path: string;
    opens: boolean;
    key: string;
    evidence: string;
    why: string;
  }

  let label = $state("");
  let builds = $state("");
  let text = $state("");
  let shown = $state<Record<number, string>>({});
  let problem = $state<ProblemText | null>(null);
  const game_id = app.gameId;
  const job = $derived(app.openJobs.find((j) => j.kind === "keys" && j.game_id === game_id));
  const last = $derived(app.lastJob("keys"));
  const trials = $derived(((last?.result as { archives?: Trial[] })?.archives ?? []) as Trial[]);

  const ring = createQuery(() => ({
    queryKey: ofGame(game_id, "keys"),
    queryFn: () =>
      every((query) => got(api.GET("/api/games/{game_id}/keys", { params: { path: { game_id }, query } }))),
  }));
  const keys = $derived(ring.data ?? []);
  const load = () => cache.invalidateQueries({ queryKey: ofGame(game_id, "keys") });
  const attempt = <T,>(work: () => Promise<T>) => attempted(work, (p) => (problem = p));

  const tryAll = () =>
    attempt(async () =>
      app.started(await got(api.POST("/api/games/{game_id}/keys/try", { params: { path: { game_id } } }))),
    );

  function add(e: SubmitEvent) {
    e.preventDefault();
    void attempt(async () => {
      const body = { label: label || "key", builds, text };
      await got(api.POST("/api/games/{game_id}/keys", { params: { path: { game_id } }, body }));
      label = builds = text = "";
      await load();
      await tryAll();
    });
  }

  const show = (key: Key) =>
    attempt(async () => {
      if (shown[key.id]) delete shown[key.id];
      else {
        const path = { key_id: key.id };
        shown[key.id] = (await got(api.POST("/api/keys/{key_id}/secret", { params: { path } }))).text;
      }
    });

  const remove = (key: Key) =>
    attempt(async () => {
      await got(api.DELETE("/api/keys/{key_id}", { params: { path: { key_id: key.id } } }));
      await load();
      app.say(`The key ${key.label} was taken off the ring.`);
    });
</script>

<section aria-label="Key ring">
  <h3 class="font-semibold">Key ring</h3>
  {#each keys as key (key.id)}
    <div class="border-b border-line py-2">
      <div class="flex items-baseline justify-between gap-2">
        <span class="font-medium">{key.label}</span>
        <span class="num text-quiet">{key.bytes} bytes{key.builds ? ` · build ${key.builds}` : ""}</span>
      </div>
      <p class="num text-quiet break-all">{shown[key.id] ?? key.masked}</p>
      <div class="mt-1 flex items-center justify-between gap-2">
        <span class={key.opens.length ? "text-success" : "text-quiet"}
          >{key.opens.length ? `✓ opens ${key.opens.join(", ")}` : "opens nothing yet"}</span
        >
        <span class="flex shrink-0 gap-1">
          <button class="btn btn-xs" onclick={() => show(key)}>{shown[key.id] ? "Hide" : "Show"}</button>
          <button class="btn btn-xs" aria-label="Remove the key {key.label}" onclick={() => remove(key)}
            >Remove</button
          >
        </span>
      </div>
    </div>
  {:else}
    <p class="mt-1 text-quiet">No key yet. Paste one below; it is tried at once.</p>
  {/each}
  <form class="mt-3 space-y-2" onsubmit={add}>
    <label class="block"
      ><span class="text-quiet">key, hexadecimal or base64</span>
      <textarea class="input num mt-1 h-auto w-full py-1.5" rows="2" bind:value={text}></textarea></label
    >
    <div class="flex gap-2">
      <label class="grow"
        ><span class="text-quiet">label</span><input
          class="input input-sm mt-1 w-full"
          bind:value={label}
        /></label
      >
      <label class="w-24"
        ><span class="text-quiet">builds</span><input
          class="input input-sm mt-1 w-full"
          bind:value={builds}
        /></label
      >
    </div>
    <div class="flex gap-2">
      <button class="btn btn-sm btn-primary" disabled={!text.trim() || !!job}>Add and try</button>
      {#if keys.length}
        <button class="btn btn-sm" type="button" disabled={!!job} onclick={tryAll}
          >Try {count(keys.length, "key")}</button
        >
      {/if}
    </div>
  </form>
  {#if problem}<div class="mt-2"><ProblemPanel {problem} close={() => (problem = null)} /></div>{/if}
  {#if job}
    <p role="status" class="mt-2 text-quiet">{job.note || "trying"} …</p>
  {:else if last?.error}<div class="mt-2"><ProblemPanel problem={last.error} /></div>
  {:else if last?.state === "done"}
    <ul class="mt-3" aria-label="What trying keys gave">
      {#each trials as trial (trial.path)}
        <li class="py-1">
          <p class="num break-all">{trial.path}</p>
          {#if trial.opens}<p class="text-success">✓ opens with {trial.key}</p>
            <p class="text-quiet">{trial.evidence}</p>
          {:else}<p class="text-error">■ stays locked</p>
            <p class="text-quiet">{trial.why}</p>{/if}
        </li>
      {:else}
        <li class="text-quiet">No archive of this game wants a key.</li>
      {/each}
    </ul>
  {/if}
</section>
