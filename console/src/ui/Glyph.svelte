<!-- One of the small pictures of entries. Without a label it says nothing that the words beside it do not. -->
<script lang="ts">
  import type { GlyphName } from "./glyphs";

  let { of, size, class: classes, label }: { of: GlyphName; size: number; class: string; label?: string } = $props();
</script>

{#if label}<svg width={size} height={size} class={classes} role="img" aria-label={label}><use href="#glyph-{of}" /></svg
  >{:else}<svg width={size} height={size} class={classes} aria-hidden="true"><use href="#glyph-{of}" /></svg>{/if}
