<!-- A part of a page under a heading. -->
<script lang="ts">
  import type { Snippet } from "svelte";

  let { title, about, children }: { title: string; about?: string | undefined; children: Snippet } = $props();
  const id = $props.id();
</script>

<section aria-labelledby={id}>
  <h2 {id} class="ledger-face border-b border-base-300 pb-1 text-xl">{title}</h2>
  {#if about}<p class="faint mt-2 max-w-prose text-sm">{about}</p>{/if}
  <div class="mt-4">{@render children()}</div>
</section>
