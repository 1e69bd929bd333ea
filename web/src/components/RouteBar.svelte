<script lang="ts">
  import ChevronDown from "@lucide/svelte/icons/chevron-down";
  import Moon from "@lucide/svelte/icons/moon";
  import Sun from "@lucide/svelte/icons/sun";
  import mark from "../assets/mark.svg";
  import { app, type StationKey } from "../lib/app.svelte";
  import type { Station } from "../lib/api";
  import { closing } from "../lib/closing";
  import { count, spaced } from "../lib/format";
  import { switchTheme, theme } from "../lib/theme.svelte";
  import ForgetGame from "./ForgetGame.svelte";
  import JobsMenu from "./JobsMenu.svelte";

  let choosing = $state(false);
  let forgetting = $state(false);
  let opener = $state<HTMLButtonElement>();
  /** How far the spoken lines are, in a word or two. */
  function spoken(banks: Station["lines"]): string {
    const languages = new Set(banks.map((bank) => bank.language));
    const [fit, all] = [sum(banks.map((bank) => bank.fit)), sum(banks.map((bank) => bank.lines))];
    return languages.size === 1
      ? `${banks[0]!.language} ${spaced(fit)} of ${spaced(all)}`
      : `${count(languages.size, "language")}, ${Math.floor((100 * fit) / all)} %`;
  }
  const sum = (numbers: number[]) => numbers.reduce((a, b) => a + b, 0);
  const surveyed = $derived(
    app.game?.surveyed
      ? `surveyed ${new Date(app.game.surveyed).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" })}`
      : "not surveyed",
  );

  function choose(id: number) {
    choosing = false;
    app.go("survey", "", id);
  }
</script>

<header
  class="flex shrink-0 items-stretch gap-5 border-b border-line px-4 max-md:flex-wrap max-md:gap-x-3 max-md:px-3"
>
  <a href="#/" class="flex items-center gap-2 text-[1.2rem] font-bold" aria-label="Zubret, to the start">
    <img src={mark} alt="" width="28" height="28" /><span class="max-md:hidden">Zubret</span>
  </a>
  {#if app.game}
    <div class="relative flex min-w-0 items-center py-2 max-md:grow max-md:basis-0">
      <button
        bind:this={opener}
        class="flex min-w-0 items-center gap-2 rounded-field text-left"
        aria-haspopup="true"
        aria-expanded={choosing}
        onclick={() => (choosing = !choosing)}
      >
        <span class="min-w-0">
          <span class="block truncate font-semibold leading-tight">{app.game.name}</span>
          <span class="block truncate text-[0.85rem] text-quiet max-md:hidden"
            >{app.game.build ? `build ${app.game.build} · ` : ""}{surveyed}</span
          >
        </span>
        <ChevronDown size={14} class="shrink-0" />
      </button>
      {#if choosing}
        <ul
          use:closing={() => (choosing = false)}
          class="absolute top-full left-0 z-30 w-72 rounded-box border border-edge bg-base-300 p-2 shadow-lg"
        >
          {#each app.games as game (game.id)}
            <li>
              <button
                class="w-full rounded-field px-3 py-1.5 text-left hover:bg-base-200"
                onclick={() => choose(game.id)}
              >
                {game.name}<span class="num block truncate text-quiet">{game.folder}</span>
              </button>
            </li>
          {/each}
          <li class="mt-1 border-t border-line pt-1">
            <a class="block rounded-field px-3 py-1.5 hover:bg-base-200" href="#/start">Add a game folder …</a
            >
            <a class="block rounded-field px-3 py-1.5 hover:bg-base-200" href="#/settings">Settings</a>
            <button
              class="w-full rounded-field px-3 py-1.5 text-left hover:bg-base-200"
              onclick={() => {
                choosing = false;
                forgetting = true;
              }}>Forget {app.game.name} …</button
            >
          </li>
        </ul>
      {/if}
    </div>
    <nav aria-label="Route" class="flex min-w-0 grow items-stretch max-md:order-last max-md:w-full">
      <ol class="flex items-stretch max-md:w-full max-md:justify-between">
        {#each app.route as stop, i (stop.key)}
          <li class="group/stop relative flex items-stretch">
            {#if i}<span
                class="mt-[1.62rem] max-xl:mt-7 h-px w-6 bg-edge max-2xl:w-2 max-md:hidden"
                aria-hidden="true"
              ></span>{/if}
            <a
              href="#/{app.gameId}/{stop.key}"
              title={stop.text}
              class="relative flex gap-2.5 px-2.5 pt-3 pb-3 whitespace-nowrap max-xl:pt-[1.15rem] max-md:gap-1.5 max-md:px-1 max-md:pt-1 max-md:pb-2"
              aria-describedby={stop.lines.length ? "lines-of-banks" : undefined}
              aria-current={!app.settings && app.stop === (stop.key as StationKey) ? "page" : undefined}
            >
              <span class="dot {stop.dot}" role="img" aria-label={stop.dot}></span>
              <span>
                <span class="block font-semibold leading-tight">{stop.name}</span>
                <span class="block text-[0.85rem] text-quiet max-xl:sr-only"
                  >{stop.text}{stop.lines.length ? `, ${spoken(stop.lines)}` : ""}</span
                >
              </span>
              {#if !app.settings && app.stop === stop.key}
                <span class="absolute inset-x-3 -bottom-px h-[3px] rounded-t bg-primary"></span>
              {/if}
            </a>
            {#if stop.lines.length}
              <div
                id="lines-of-banks"
                role="tooltip"
                class="invisible absolute top-full left-3 z-30 mt-1 max-h-[60vh] w-96 overflow-auto rounded-box border border-edge bg-base-200 p-3 shadow-lg group-focus-within/stop:visible group-hover/stop:visible"
              >
                <p class="mb-1 text-quiet">Lines with a take that fits</p>
                {#each stop.lines as bank, n (n)}
                  <p class="flex items-center gap-2 py-0.5">
                    <span class="w-20 shrink-0 truncate">{bank.language}</span>
                    <span class="min-w-0 grow truncate text-quiet">{bank.bank}</span>
                    <progress
                      class="progress progress-primary w-16 shrink-0"
                      value={bank.fit}
                      max={bank.lines}
                      aria-hidden="true"
                    ></progress>
                    <span class="num shrink-0">{spaced(bank.fit)} of {spaced(bank.lines)}</span>
                  </p>
                {/each}
              </div>
            {/if}
          </li>
        {/each}
      </ol>
    </nav>
  {:else}
    <div class="grow"></div>
  {/if}
  <div class="flex items-center gap-2 py-2 max-md:ml-auto">
    <button class="btn btn-sm h-8" onclick={() => (app.searching = true)}>
      Find<span class="max-md:hidden">or do</span> <kbd class="kbd kbd-sm max-lg:hidden">Ctrl K</kbd>
    </button>
    <JobsMenu />
    <button
      class="btn btn-sm btn-square h-8"
      aria-label={theme.name === "dusk" ? "Switch to the bright theme" : "Switch to the dark theme"}
      onclick={switchTheme}
    >
      {#if theme.name === "dusk"}<Sun size={15} />{:else}<Moon size={15} />{/if}
    </button>
  </div>
</header>
{#if forgetting && app.game}
  <ForgetGame
    game={app.game}
    close={() => {
      forgetting = false;
      opener?.focus();
    }}
  />
{/if}

<style>
  .dot {
    width: 12px;
    height: 12px;
    margin-top: 3px;
    border-radius: 50%;
    border: 2px solid var(--edge);
  }
  .dot.full {
    background: var(--color-success);
    border-color: var(--color-success);
  }
  .dot.half {
    border-color: var(--color-primary);
    background: linear-gradient(90deg, var(--color-primary) 50%, transparent 50%);
  }
</style>
