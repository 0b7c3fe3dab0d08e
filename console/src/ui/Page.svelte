<!-- A page besides the lists: a heading, a word about it, and what is on it, as wide as reads well. -->
<script lang="ts">
  import type { Snippet } from "svelte";

  let {
    title,
    about,
    children,
    actions,
  }: { title: string; about?: string | undefined; children: Snippet; actions?: Snippet } = $props();
</script>

<div class="h-full overflow-y-auto">
  <div class="px-4 pt-5 pb-12 sm:px-8 max-w-6xl">
    <div class="flex flex-wrap items-start justify-between gap-3">
      <h1 class="ledger-face text-3xl" tabindex="-1" data-page-title>{title}</h1>
      {#if actions}<div class="flex flex-wrap gap-2">{@render actions()}</div>{/if}
    </div>
    {#if about}<p class="faint mt-1 max-w-prose">{about}</p>{/if}
    <div class="mt-6 space-y-10">{@render children()}</div>
  </div>
</div>
