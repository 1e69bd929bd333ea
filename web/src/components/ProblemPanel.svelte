<script lang="ts">
  import X from "@lucide/svelte/icons/x";
  import type { ProblemText } from "../lib/api";

  /** What is wrong, where, and what to do next. */
  let { problem, close }: { problem: ProblemText; close?: () => void } = $props();
</script>

<div role="alert" class="flex gap-3 rounded-box border-l-4 border-error bg-base-300 py-3 pr-2 pl-4">
  <div class="min-w-0 grow">
    <p class="font-semibold break-words">{problem.what}</p>
    {#if problem.where}<p class="num mt-0.5 text-quiet break-all">{problem.where}</p>{/if}
    {#if problem.next}<p class="mt-1">{problem.next}</p>{/if}
  </div>
  {#if close}
    <button class="btn btn-ghost btn-sm btn-square" aria-label="Close this message" onclick={close}
      ><X size={16} /></button
    >
  {/if}
</div>
