<!-- One of the small pictures of entries. Without a label it says nothing that the words beside it do not. -->
<script lang="ts">
  import type { GlyphName } from "./glyphs";

  let { of, size, class: classes, label }: { of: GlyphName; size: number; class: string; label?: string } = $props();
</script>

<svg
  width={size}
  height={size}
  class={classes}
  role={label ? "img" : undefined}
  aria-label={label}
  aria-hidden={label ? undefined : "true"}><use href="#glyph-{of}" /></svg
>
