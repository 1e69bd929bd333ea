<script lang="ts">
  import { api, got, type Stream } from "../lib/api";
  import { app, type StationKey } from "../lib/app.svelte";
  import { clock, spaced } from "../lib/format";
  import { player } from "../lib/player.svelte";
  import { EVERYTHING, toSearch } from "../lib/query";
  import { switchTheme } from "../lib/theme.svelte";

  /** Ctrl K: find a stream or do something, by typing. */
  interface Choice {
    label: string;
    hint: string;
    run: () => void;
  }

  const STOPS: [StationKey, string][] = [
    ["survey", "Survey"],
    ["locate", "Locate"],
    ["swap", "Swap"],
    ["rebuild", "Rebuild"],
    ["install", "Install"],
    ["mods", "Mods"],
  ];
  let dialog: HTMLDialogElement;
  let text = $state("");
  let at = $state(0);
  let streams = $state<Stream[]>([]);
  /** How many streams there are by this text. */
  let more = $state(0);

  $effect(() => {
    if (app.searching && !dialog.open) {
      text = "";
      at = 0;
      dialog.showModal();
    }
  });

  $effect(() => {
    const q = text.trim();
    if (!q || !app.gameId) {
      [streams, more] = [[], 0];
      return;
    }
    const timer = setTimeout(async () => {
      try {
        const page = await got(
          api.GET("/api/games/{game_id}/streams", {
            params: { path: { game_id: app.gameId }, query: { q, limit: 8 } },
          }),
        );
        if (q === text.trim()) [streams, more] = [page.rows, page.total ?? 0];
      } catch {
        [streams, more] = [[], 0];
      }
    }, 120);
    return () => clearTimeout(timer);
  });

  const deeds = $derived<Choice[]>([
    // What the stops say may still be on its way; going to one need not wait for it.
    ...(app.game ? STOPS : []).map(([key, name]) => ({
      label: `Go to ${name}`,
      hint: app.route.find((s) => s.key === key)?.text ?? "",
      run: () => app.go(key),
    })),
    ...(app.game
      ? [
          {
            label: "Survey again",
            hint: app.game.name,
            run: async () => {
              await app.attempt(
                api.POST("/api/games/{game_id}/survey", { params: { path: { game_id: app.gameId } } }),
              );
              app.wake();
              app.go("survey");
            },
          },
          {
            label: "Go to the line board",
            hint: "texts, takes and files by the hundred",
            run: () => app.go("lines"),
          },
          { label: "See what changed between surveys", hint: "", run: () => app.go("changes") },
          {
            label: "Look for sounds in what nothing describes",
            hint: "What is in here?",
            run: () => app.go("inside"),
          },
        ]
      : []),
    { label: "Add a game folder", hint: "", run: () => (location.hash = "/start") },
    { label: "Settings", hint: "folders that Zubret may read", run: () => (location.hash = "/settings") },
    { label: player.playing ? "Pause" : "Play", hint: "Space", run: () => player.toggle() },
    {
      label: "Change between original and new",
      hint: "O",
      run: () => player.change(player.side === "new" ? "original" : "new"),
    },
    { label: "Hear the seam", hint: "S", run: () => player.seam() },
    { label: "Show the keys", hint: "?", run: () => (app.explaining = true) },
    { label: "Switch between dark and bright", hint: "", run: switchTheme },
  ]);
  const choices = $derived<Choice[]>([
    ...deeds.filter((d) => d.label.toLowerCase().includes(text.trim().toLowerCase())),
    ...streams.map((s) => ({
      label: `${s.name || "no name yet"} · ${s.stream_id || s.entry}`,
      hint: `${s.bank} · ${clock(s.seconds, 1)}`,
      run: () => app.go("locate", String(s.id)),
    })),
    ...(streams.length < more
      ? [
          {
            label: `Show all ${spaced(more)} in Locate`,
            hint: text.trim(),
            run: () => app.go("locate", "", app.gameId, toSearch({ ...EVERYTHING, q: text.trim() })),
          },
        ]
      : []),
  ]);

  function close() {
    dialog.close();
    app.searching = false;
  }

  function choose(choice: Choice | undefined) {
    if (!choice) return;
    close();
    choice.run();
  }

  function onkeydown(e: KeyboardEvent) {
    if (e.key === "ArrowDown") at = Math.min(at + 1, choices.length - 1);
    else if (e.key === "ArrowUp") at = Math.max(at - 1, 0);
    else if (e.key === "Enter") choose(choices[at]);
    else return;
    e.preventDefault();
  }
</script>

<dialog
  bind:this={dialog}
  aria-label="Find or do"
  class="m-auto mt-24 w-[34rem] max-w-[94vw] rounded-box border border-edge bg-base-200 p-3 text-base-content backdrop:bg-black/40"
  onclose={() => (app.searching = false)}
>
  <!-- svelte-ignore a11y_autofocus -->
  <input
    class="input w-full"
    autofocus
    placeholder="A stream's name or id, a bank, or something to do"
    aria-label="Find or do"
    role="combobox"
    aria-expanded="true"
    aria-controls="choices"
    aria-activedescendant="choice-{at}"
    bind:value={text}
    oninput={() => (at = 0)}
    {onkeydown}
  />
  <ul id="choices" role="listbox" aria-label="Choices" class="mt-2 max-h-80 overflow-auto">
    {#each choices as choice, i (choice.label + i)}
      <!-- svelte-ignore a11y_click_events_have_key_events -->
      <li
        id="choice-{i}"
        role="option"
        aria-selected={i === at}
        class="flex cursor-pointer justify-between gap-4 rounded-field px-3 py-1.5 {i === at
          ? 'bg-base-300'
          : ''}"
        onclick={() => choose(choice)}
        onmousemove={() => (at = i)}
      >
        <span class="truncate">{choice.label}</span><span class="shrink-0 text-quiet">{choice.hint}</span>
      </li>
    {:else}
      <li class="px-3 py-2 text-quiet" role="option" aria-selected="false">Nothing by this name.</li>
    {/each}
  </ul>
</dialog>
