<!-- What is known of a clip. -->
<script lang="ts">
  import { contentUrl, type Clip, type ClipDetail } from "../lib/api";
  import { extent } from "../lib/clips";
  import { relative, size, whole } from "../lib/format";
  import { href } from "../lib/router.svelte";
  import { w } from "../words/index.svelte";

  let { clip, detail }: { clip: Clip; detail: ClipDetail } = $props();
  const facts = $derived(w().facts);
  /** A clip may have hundreds. */
  const MOST = 20;
  let all = $state(false);
</script>

<dl class="grid grid-cols-[max-content_1fr] gap-x-4 gap-y-1 text-sm">
  <dt class="faint">{facts.extent}</dt>
  <dd>{extent(clip)}</dd>
  <dt class="faint">{facts.copied}</dt>
  <dd>{whole(new Date(clip.copied_at))}, {facts.times(clip.copies)}</dd>
  {#if clip.recalled_at}
    <dt class="faint">{facts.recalled}</dt>
    <dd>{whole(new Date(clip.recalled_at))}, {facts.times(clip.recalls)}</dd>
  {/if}
  {#if clip.expires_at}
    <dt class="faint">{facts.goes}</dt>
    <dd>{relative(new Date(clip.expires_at))} ({whole(new Date(clip.expires_at))})</dd>
  {/if}
  {#if clip.source.application || clip.source.window}
    <dt class="faint">{facts.from}</dt>
    <dd class="break-words"><bdi>{[clip.source.application, clip.source.window].filter(Boolean).join(", ")}</bdi></dd>
  {/if}
  {#if clip.source.selected}
    <dt class="faint">{facts.selected}</dt>
    <dd>{w().clips.selectedOnly}</dd>
  {/if}
  {#if clip.source.page}
    <dt class="faint">{facts.page}</dt>
    <dd class="break-all"><bdi>{clip.source.page}</bdi></dd>
  {/if}
  <dt class="faint">{facts.device}</dt>
  <dd><bdi>{clip.device}</bdi>{clip.elsewhere ? facts.isElsewhere : clip.shared ? facts.isShared : ""}</dd>
  {#if clip.drawer}
    <dt class="faint">{facts.drawer}</dt>
    <dd>
      <a class="text-primary underline" href={href({ page: "kept", what: clip.drawer })}><bdi>{clip.drawer}</bdi></a>
    </dd>
  {/if}
  {#if clip.fills}
    <dt class="faint">{facts.fills}</dt>
    <dd>{facts.fillsMeans}</dd>
  {/if}
  <dt class="faint">{facts.formats}</dt>
  <dd class="flex flex-wrap gap-x-3">
    {#each all ? detail.formats : detail.formats.slice(0, MOST) as format (format.mime)}
      <a class="break-all underline" href={contentUrl(clip.id, format.mime)} download
        >{format.mime} ({size(format.size)})</a
      >
    {/each}
    {#if detail.formats.length > MOST && !all}<button type="button" class="underline" onclick={() => (all = true)}
        >{facts.moreFormats(detail.formats.length - MOST)}</button
      >{/if}
  </dd>
</dl>
