<script lang="ts">
  import { createQuery } from "@tanstack/svelte-query";
  import Modal from "../components/Modal.svelte";
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import { api, asProblem, got, type SayingOut } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { spaced } from "../lib/format";

  /** Names for many streams by a pattern, with what it makes of the first ones. */
  let {
    chosen,
    name,
    close,
  }: {
    /** In the order in which numbers count. */
    chosen: number[];
    name: (call: Promise<{ data?: SayingOut }>) => Promise<void>;
    close: () => void;
  } = $props();
  /** So many are looked at beforehand. */
  const MOST = 2000;
  const params = { path: { game_id: app.gameId } };
  let modal: Modal;
  let field: HTMLInputElement;
  let template = $state("{bank} {number:3}");
  let asked = $state("{bank} {number:3}");
  const body = (template: string) => ({ chosen, said: {}, template });

  const fields = createQuery(() => ({
    queryKey: ["template fields"],
    queryFn: () => got(api.GET("/api/template-fields")),
  }));
  const plan = createQuery(() => ({
    queryKey: ["name by pattern", app.gameId, chosen.length, chosen[0], asked],
    queryFn: ({ signal }) =>
      got(
        api.POST("/api/games/{game_id}/sayings/plan", {
          params,
          body: { ...body(asked), chosen: chosen.slice(0, MOST) },
          signal,
        }),
      ),
    placeholderData: (before) => before,
    meta: { shown: true },
    gcTime: 0,
  }));

  $effect(() => {
    const wanted = template;
    const timer = setTimeout(() => (asked = wanted), 150);
    return () => clearTimeout(timer);
  });

  function put(text: string) {
    const [from, to] = [field.selectionStart ?? template.length, field.selectionEnd ?? template.length];
    template = `${template.slice(0, from)}{${text}}${template.slice(to)}`;
    field.focus();
  }

  async function start(e: SubmitEvent) {
    e.preventDefault();
    modal.close();
    await name(api.POST("/api/games/{game_id}/sayings", { params, body: body(template) }));
  }
</script>

<Modal bind:this={modal} label="Name by a pattern" width="w-[36rem]" onclose={close}>
  <form onsubmit={start}>
    <h2 class="text-lg font-bold">Name {spaced(chosen.length)} streams by a pattern</h2>
    <label class="mt-3 block"
      ><span class="text-quiet">Pattern</span>
      <input bind:this={field} class="input num mt-1 w-full" maxlength="300" bind:value={template} /></label
    >
    <div class="mt-2 flex flex-wrap gap-1.5" role="group" aria-label="Fields">
      {#each fields.data ?? [] as { name, what } (name)}
        <button type="button" class="btn btn-xs num" title={what} onclick={() => put(name)}>{name}</button>
      {/each}
    </div>
    <p class="mt-2 text-quiet">
      <span class="num">{"{number:3}"}</span> counts in the order of the list, filled up with zeros: 001, 002 …
    </p>
    <div class="mt-3 min-h-36" aria-live="polite">
      {#if plan.error}<ProblemPanel problem={asProblem(plan.error)} />
      {:else if plan.data}
        <p class="text-quiet">They will be called</p>
        <ul class="num">
          {#each plan.data.names as text, i (i)}<li class="truncate">{text}</li>{/each}
          {#if chosen.length > plan.data.names.length}<li class="text-quiet">
              and {spaced(chosen.length - plan.data.names.length)} more
            </li>{/if}
        </ul>
        {#if plan.data.doubled}
          <p class="mt-1">
            ■ {spaced(plan.data.doubled)} of the
            {plan.data.looked < chosen.length ? `first ${spaced(plan.data.looked)} names` : "names"}
            come more than once; {"{number}"} or {"{id}"} tells them apart.
          </p>
        {/if}
      {/if}
    </div>
    <div class="mt-4 flex justify-end gap-2">
      <button type="button" class="btn" onclick={() => modal.close()}>Cancel</button>
      <button class="btn btn-primary" disabled={!!plan.error || !plan.data}>Name them</button>
    </div>
  </form>
</Modal>
