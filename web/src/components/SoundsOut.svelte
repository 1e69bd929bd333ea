<script lang="ts">
  import { api, got, type SoundsPlan, type Stream } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { TakingOut } from "../lib/takeout.svelte";
  import { bytes, count, duration, spaced } from "../lib/format";
  import { streamTitle } from "../lib/items";
  import { EVERYTHING, narrows } from "../lib/query";
  import TakeOutDialog from "./TakeOutDialog.svelte";

  /** Streams as sound files: which, as what, under which names. */
  let {
    chosen,
    one,
    close,
  }: {
    /** The streams that are chosen, and the current one of them. */
    chosen: number[];
    one: Stream | null;
    close: () => void;
  } = $props();
  const game_id = app.gameId;
  const query = app.query;
  const KINDS = [
    ["wav", "WAV"],
    ["flac", "FLAC"],
    ["ogg", "Ogg Vorbis"],
    ["opus", "Ogg Opus"],
    ["stored", "as stored"],
  ] as const;
  const TAGS = ["album", "artist", "date", "comment"] as const;

  // svelte-ignore state_referenced_locally
  let which = $state<"filter" | "marked" | "chosen">(chosen.length > 1 ? "chosen" : "filter");
  let how = $state({
    kind: "wav",
    template: "{bank}/{id} {name}",
    folders: false,
    loops: "kept" as "kept" | "played",
    plays: 2,
    fade: 6,
    loud: false,
    loudness: -16,
    tags: { album: "", artist: "", date: "", comment: "" },
    number_tracks: false,
    playlist: false,
    figures: false,
  });
  let fields = $state<{ name: string; what: string }[]>([]);
  const out = new TakingOut<SoundsPlan>();
  const plan = $derived(out.plan);
  const stored = $derived(how.kind === "stored");

  const body = $derived({
    chosen: which === "chosen" ? chosen : [],
    filter: which === "marked" ? { ...EVERYTHING, marked: true } : query,
    how: {
      kind: how.kind,
      template: how.template,
      folders: how.folders,
      plays: how.loops === "played" && !stored ? how.plays : 0,
      fade: how.loops === "played" && !stored ? how.fade : 0,
      loudness: how.loud && !stored ? how.loudness : null,
      tags: { ...how.tags },
      number_tracks: how.number_tracks,
      playlist: how.playlist,
      figures: how.figures,
    },
    folder: out.target,
  });

  $effect(() => {
    void got(api.GET("/api/template-fields")).then((list) => (fields = list));
  });

  $effect(() => {
    const wanted = body;
    if (!out.started)
      return out.ask(() =>
        api.POST("/api/games/{game_id}/sounds/plan", { params: { path: { game_id } }, body: wanted }),
      );
  });

  const start = () =>
    out.begin(api.POST("/api/games/{game_id}/sounds", { params: { path: { game_id } }, body }));
</script>

<TakeOutDialog title="Take sounds out" width="w-[60rem]" noun="stream" {out} {start} {close}>
  {#snippet choice()}
    <div class="mt-3 grid grid-cols-2 gap-x-8 gap-y-4 max-md:grid-cols-1">
      <fieldset>
        <legend class="text-quiet">Which</legend>
        <label class="mt-1 flex items-center gap-2"
          ><input type="radio" class="radio radio-sm" value="filter" bind:group={which} />
          {narrows(query) ? "all that the filter leaves" : "all of the game"}</label
        >
        <label class="mt-1 flex items-center gap-2"
          ><input type="radio" class="radio radio-sm" value="marked" bind:group={which} /> the marked ones ◆</label
        >
        {#if chosen.length > 1 || one}
          <label class="mt-1 flex min-w-0 items-center gap-2"
            ><input type="radio" class="radio radio-sm" value="chosen" bind:group={which} />
            <span class="truncate"
              >{chosen.length > 1
                ? `the ${spaced(chosen.length)} that are chosen`
                : `only ${streamTitle(one!)}`}</span
            ></label
          >
        {/if}
      </fieldset>
      <fieldset>
        <legend class="text-quiet">As</legend>
        <div class="mt-1 flex flex-wrap gap-1.5" role="group" aria-label="Kind of file">
          {#each KINDS as [key, label] (key)}
            <button
              type="button"
              class="btn btn-sm {how.kind === key ? 'border-primary! bg-base-100! font-semibold' : ''}"
              aria-pressed={how.kind === key}
              onclick={() => (how.kind = key)}>{label}</button
            >
          {/each}
        </div>
        <p class="mt-1.5 text-quiet">
          {stored
            ? `The game's own bytes in an open file; nothing is encoded again.${plan?.decoded ? ` ${count(plan.decoded, "stream")} that no open file can hold become WAV.` : ""}`
            : how.kind === "opus"
              ? "Always at 48 000 Hz; loops are rescaled."
              : "At the stream's own rate."}
        </p>
      </fieldset>
      <fieldset disabled={stored}>
        <legend class="text-quiet">Loops</legend>
        <label class="mt-1 flex items-center gap-2"
          ><input type="radio" class="radio radio-sm" value="kept" bind:group={how.loops} /> kept, as loop points</label
        >
        <label class="mt-1 flex items-center gap-2"
          ><input type="radio" class="radio radio-sm" value="played" bind:group={how.loops} /> played
          <input
            type="number"
            class="input input-sm num w-16"
            aria-label="How often a loop is played"
            min="1"
            max="100"
            disabled={how.loops !== "played"}
            bind:value={how.plays}
          />
          <span class="whitespace-nowrap">times, then faded over</span>
          <input
            type="number"
            class="input input-sm num w-16"
            aria-label="Seconds of the fade"
            min="0"
            max="60"
            step="0.5"
            disabled={how.loops !== "played"}
            bind:value={how.fade}
          /> s</label
        >
      </fieldset>
      <fieldset disabled={stored}>
        <legend class="text-quiet">Level</legend>
        <label class="mt-1 flex items-center gap-2"
          ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={how.loud} />
          <span class="whitespace-nowrap">bring to</span>
          <input
            type="number"
            class="input input-sm num w-20"
            aria-label="Loudness in LUFS"
            min="-60"
            max="0"
            step="0.5"
            disabled={!how.loud}
            bind:value={how.loudness}
          /> <span class="whitespace-nowrap">LUFS, never above −1 dBTP</span></label
        >
        {#if !how.loud}<p class="mt-1 text-quiet">Levels are left as they are.</p>{/if}
      </fieldset>
    </div>
    <div class="mt-4">
      <label class="block"
        ><span class="text-quiet">Names; / makes folders</span>
        <input class="input mt-1 w-full font-mono" maxlength="300" bind:value={how.template} /></label
      >
      <div class="mt-1.5 flex flex-wrap gap-1">
        {#each fields as f (f.name)}
          <button
            type="button"
            class="btn btn-xs font-mono"
            title={f.what}
            onclick={() =>
              (how.template += `${how.template && !/[ /_-]$/.test(how.template) ? " " : ""}{${f.name}}`)}
            >{f.name}</button
          >
        {/each}
      </div>
      {#if plan}
        <ul class="num mt-2 border-y border-line py-1 text-quiet" aria-label="Names of the first files">
          {#each plan.names.slice(0, 3) as name (name)}<li class="truncate">{name}</li>{/each}
          {#if plan.files > 3}<li>… {spaced(plan.files - 3)} more</li>{/if}
        </ul>
      {/if}
      <div class="mt-2 flex flex-wrap gap-x-6 gap-y-1">
        {#each [["folders", "in the game's own folders"], ["playlist", "with a playlist"], ["figures", "with a table of all figures (CSV)"], ["number_tracks", "track numbers"]] as const as [key, label] (key)}
          <label class="flex items-center gap-2"
            ><input type="checkbox" class="checkbox checkbox-sm" bind:checked={how[key]} /> {label}</label
          >
        {/each}
      </div>
    </div>
    <div class="mt-3 grid grid-cols-4 gap-3 max-md:grid-cols-2">
      {#each TAGS as tag (tag)}
        <label class="block"
          ><span class="text-quiet">{tag}, for all</span>
          <input class="input input-sm mt-1 w-full" maxlength="300" bind:value={how.tags[tag]} /></label
        >
      {/each}
    </div>
  {/snippet}
  {#snippet needs(plan)}
    <strong class="num">{spaced(plan.files)}</strong>
    {plan.files === 1 ? "file" : "files"} · {duration(plan.seconds)} · about
    <strong class="num">{bytes(plan.bytes)}</strong>
    <span class="text-quiet"
      >· {bytes(plan.free)} free{plan.there ? ` · ${spaced(plan.there)} there already` : ""}</span
    >
  {/snippet}
</TakeOutDialog>
