<!-- A labelled field, with a word of help below it. -->
<script lang="ts">
  import type { Snippet } from "svelte";

  let {
    label,
    help,
    children,
  }: { label: string; help?: string | undefined; children: Snippet<[string, string | undefined]> } = $props();
  const id = $props.id();
</script>

<div class="space-y-1">
  <label for={id} class="block text-sm font-semibold">{label}</label>
  {@render children(id, help ? `help-${id}` : undefined)}
  {#if help}<p id="help-{id}" class="faint text-sm">{help}</p>{/if}
</div>
