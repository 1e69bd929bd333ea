<script lang="ts">
  import { api, type SurveyLine } from "../lib/api";
  import { app } from "../lib/app.svelte";

  /** One of two surveys, and its label. */
  let {
    title,
    surveys,
    value = $bindable(),
    labelled,
  }: {
    title: string;
    surveys: SurveyLine[];
    value: number | null;
    labelled: () => Promise<void>;
  } = $props();
  let editing = $state(false);
  const chosen = $derived(surveys.find((survey) => survey.id === value));

  function called(survey: SurveyLine): string {
    const when = new Date(survey.finished).toLocaleString([], { dateStyle: "medium", timeStyle: "short" });
    const build = survey.build ? `build ${survey.build}` : "no label";
    return `${survey.game} · ${survey.label || build} · ${when}`;
  }

  async function name(survey_id: number, label: string) {
    editing = false;
    await app.attempt(
      api.PATCH("/api/surveys/{survey_id}", { params: { path: { survey_id } }, body: { label } }),
    );
    await labelled();
  }
</script>

<div class="min-w-0 grow">
  <label class="block"
    ><span class="text-quiet">{title}</span>
    <select class="select mt-1 w-full" bind:value>
      {#each surveys as survey (survey.id)}<option value={survey.id}>{called(survey)}</option>{/each}
    </select></label
  >
  {#if chosen && editing}
    <!-- svelte-ignore a11y_autofocus -->
    <input
      class="input input-sm mt-1 w-40"
      aria-label="Label of the {title}"
      autofocus
      value={chosen.label}
      onchange={(e) => name(chosen.id, e.currentTarget.value)}
      onblur={() => (editing = false)}
    />
  {:else if chosen}
    <button class="btn btn-xs mt-1" onclick={() => (editing = true)}>Label it</button>
  {/if}
</div>
