<!-- The small pictures of entries, drawn once; `Glyph` shows them. -->
<script lang="ts">
  import { GLYPHS } from "./glyphs";
</script>

<svg width="0" height="0" class="absolute" aria-hidden="true">
  {#each Object.entries(GLYPHS) as [name, Drawing] (name)}<symbol id="glyph-{name}" viewBox="0 0 24 24"
      ><Drawing /></symbol
    >{/each}
</svg>
