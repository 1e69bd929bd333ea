<script lang="ts">
  import ProblemPanel from "../components/ProblemPanel.svelte";
  import type { Group } from "../lib/api";
  import { app } from "../lib/app.svelte";
  import { whenAsked } from "../lib/asking.svelte";
  import type { Columns } from "../lib/columns.svelte";
  import { duration, spaced } from "../lib/format";
  import { narrows, type Query } from "../lib/query";
  import { Choice } from "../list/choice.svelte";
  import List from "../list/List.svelte";
  import { groupName, GroupRows } from "./groups.svelte";
  import NoStreams from "./NoStreams.svelte";

  /** The banks and folders in which what is found stands, with sums. One that is opened narrows the list of streams to it. */
  let {
    query = $bindable(),
    columns,
    open,
    total = $bindable(),
  }: {
    query: Query;
    columns: Columns<Group>;
    open: (group: Group) => void;
    /** How many there are. */
    total: number;
  } = $props();

  // svelte-ignore state_referenced_locally
  const rows = new GroupRows(app.gameId, $state.snapshot(query));
  const choice = new Choice<Group>(
    rows,
    (group) => group.bank,
    async () => [],
    () => {},
  );
  let list = $state<ReturnType<typeof List<Group>>>();
  export const focus = () => list?.focus();

  const asks = $derived(JSON.stringify(query));
  let answered = $state("");
  whenAsked(
    () => asks,
    async (wanted) => {
      if (!(await rows.ask(JSON.parse(wanted)))) return;
      if (wanted !== answered) list?.toTop();
      answered = wanted;
    },
  );
  $effect(() => {
    total = rows.total;
  });
</script>

{#snippet narrow(group: Group)}
  <div class="flex items-baseline gap-2">
    <span class="min-w-0 grow truncate font-medium">{groupName(group)}</span>
    <span class="num shrink-0">{spaced(group.streams)}</span>
  </div>
  <div class="truncate text-quiet">{group.within || "/"} · {duration(group.seconds)}</div>
{/snippet}

{#if rows.problem}<ProblemPanel problem={rows.problem} />{/if}
<List
  bind:this={list}
  label="Banks"
  {columns}
  {choice}
  many={false}
  bind:sort={query.order}
  busy={asks !== answered}
  jump={rows.jump}
  {narrow}
  {open}
>
  {#snippet empty()}
    <NoStreams narrowed={narrows(query)} />
  {/snippet}
</List>
