<script lang="ts">
  import { api, got, type Item, type ItemPage } from "../lib/api";
  import { whenAsked } from "../lib/asking.svelte";
  import { ofGame } from "../lib/cache";
  import { Columns } from "../lib/columns.svelte";
  import { bytes, spaced } from "../lib/format";
  import { Rows } from "../lib/rows.svelte";
  import { Choice } from "../list/choice.svelte";
  import List from "../list/List.svelte";

  /** All entries or streams that the layout finds; one that is chosen is shown among the bytes. */
  let {
    game_id,
    path,
    text,
    goTo,
  }: {
    game_id: number;
    path: string;
    /** A layout that reads the file; "" where none does. */
    text: string;
    goTo: (at: number) => void;
  } = $props();

  const params = $derived({ path: { game_id } });
  const bodyOf = (layout: string) => ({ path, text: layout, at: 0, length: 0 });

  class ItemRows extends Rows<string, Item, ItemPage> {
    jump = async (begins: string, first: number): Promise<number> => {
      const asked = { params: { ...params, query: { begins, first } }, body: bodyOf(this.query) };
      return (await this.attempt(api.POST("/api/games/{game_id}/bench/items/beginning", asked))) ?? -1;
    };
  }
  // svelte-ignore state_referenced_locally
  const rows = new ItemRows(
    ofGame(game_id, "bench items", path),
    (layout, { offset, limit }, signal) =>
      got(
        api.POST("/api/games/{game_id}/bench/items", {
          params: { ...params, query: { offset, limit } },
          body: bodyOf(layout),
          signal,
        }),
      ),
    "",
  );
  const choice = new Choice<Item>(
    rows,
    (item) => item.id,
    async () => [],
    (item) => goTo(item.at),
  );
  whenAsked(
    () => text,
    (layout) => layout && void rows.ask(layout),
  );

  const columns = new Columns<Item>("bench", () => [
    {
      key: "name",
      label: "name",
      width: 180,
      grow: 1,
      num: true,
      always: true,
      text: (item) => item.name,
      title: (item) => item.name,
    },
    { key: "at", label: "byte", side: "right", num: true, width: 110, text: (item) => spaced(item.at) },
    {
      key: "stored",
      label: "stored",
      side: "right",
      num: true,
      width: 84,
      text: (item) => bytes(item.stored),
    },
    { key: "note", label: "as", width: 110, num: true, quiet: () => true, text: (item) => item.note },
  ]);
</script>

{#snippet narrow(item: Item)}
  <div class="num truncate">{item.name}</div>
  <div class="num truncate text-quiet">byte {spaced(item.at)} · {bytes(item.stored)} · {item.note}</div>
{/snippet}

{#if text}
  <div class="flex h-full flex-col">
    <List label="Items" many={false} {columns} {choice} busy={rows.loading} jump={rows.jump} {narrow}>
      {#snippet empty()}The layout finds none.{/snippet}
    </List>
  </div>
{:else}
  <p class="text-quiet">Entries or streams appear here once the layout reads the file.</p>
{/if}
