<!-- A word about an entry, in its margin; what it means is said in full. -->
<script lang="ts">
  let { word, meaning, loud = false }: { word: string; meaning: string; loud?: boolean } = $props();
</script>

<span
  class="shrink-0 rounded-sm border px-1.5 text-xs whitespace-nowrap {loud
    ? 'border-warning text-warning'
    : 'faint border-base-300'}"
  title={meaning}>{word}</span
>
