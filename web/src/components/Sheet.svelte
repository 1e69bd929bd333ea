<script lang="ts">
  import type { Snippet } from "svelte";
  import type { HTMLAttributes } from "svelte/elements";

  /** What is told of the chosen thing: beside the list where there is room, else a sheet below it that opens upwards. */
  let {
    label,
    title,
    width,
    children,
    class: more = "",
    ...rest
  }: {
    label: string;
    /** What the closed sheet is called. */
    title: string;
    width: string;
    children: Snippet;
  } & HTMLAttributes<HTMLElement> = $props();
  let open = $state(false);
</script>

<aside
  aria-label={label}
  style="--width: {width}"
  class="flex shrink-0 flex-col border-line bg-base-200 max-lg:max-h-[62%] max-lg:border-t lg:w-(--width) lg:border-l {more}"
  {...rest}
>
  <button
    class="flex items-center justify-between gap-3 px-4 py-2.5 text-left font-semibold lg:hidden"
    aria-expanded={open}
    onclick={() => (open = !open)}
    ><span class="truncate">{title}</span><span class="shrink-0 text-quiet">{open ? "▾ less" : "▴ more"}</span
    ></button
  >
  <div class="flex min-h-0 grow flex-col gap-3 overflow-auto p-4 {open ? '' : 'max-lg:hidden'}">
    {@render children()}
  </div>
</aside>
