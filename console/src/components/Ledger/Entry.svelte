<!-- One line of the ledger, which unfolds in place. -->
<script lang="ts">
  import Files from "@lucide/svelte/icons/files";
  import Image from "@lucide/svelte/icons/image";
  import Link from "@lucide/svelte/icons/link";
  import Lock from "@lucide/svelte/icons/lock";
  import Type from "@lucide/svelte/icons/type";
  import { thumbnailUrl, type Clip } from "../../lib/api";
  import { clock, shortDay } from "../../lib/days";
  import { KINDS, parts, pictureLine } from "../../lib/words";
  import { ledger } from "../../state/ledger.svelte";
  import Unfolded from "./Unfolded.svelte";

  let { clip, place }: { clip: Clip; place: number } = $props();

  const icons = { text: Type, link: Link, image: Image, files: Files };
  const Icon = $derived(clip.sensitive ? Lock : icons[clip.kind]);
  const at = $derived(new Date(clip.copied_at));
  const open = $derived(ledger.unfolded === clip.id);
  // The whole list has one place in the order of the Tab key: the active entry, or else the first.
  const tabbable = $derived(ledger.active ? ledger.active === clip.id : place === 1);
  let thumbnailMissing = $state(false);
</script>

<article
  class="grid grid-cols-[3.5rem_1fr] sm:grid-cols-[5rem_1fr] {open ? 'bg-base-200' : ''}"
  aria-posinset={place}
  aria-setsize={ledger.query ? -1 : ledger.total}
  aria-labelledby="line-{clip.id}"
>
  <time datetime={clip.copied_at} class="faint pt-2.5 pr-2 text-right text-xs tabular-nums sm:pr-3">
    {#if ledger.query}{shortDay(at)}{:else}{clock(at)}{/if}
  </time>
  <div class="min-w-0 border-b border-base-300 border-l-2 border-l-secondary/60">
    <button
      data-entry={clip.id}
      class="flex w-full cursor-pointer items-center gap-2.5 px-3 py-2 text-left hover:bg-base-200 focus-visible:-outline-offset-2 sm:px-4"
      aria-expanded={open}
      tabindex={tabbable ? 0 : -1}
      onfocus={() => (ledger.active = clip.id)}
      onclick={() => ledger.toggle(clip)}
    >
      <Icon size={15} class="faint shrink-0" aria-hidden="true" />
      <span id="line-{clip.id}" class="flex min-w-0 grow items-center gap-2.5">
        <span class="sr-only">{clip.sensitive ? "Sensitive" : KINDS[clip.kind]}:</span>
        {#if clip.kind === "image" && !thumbnailMissing}
          <img src={thumbnailUrl(clip.id)} alt="" loading="lazy" class="h-12 w-18 shrink-0 rounded-sm border border-base-300 bg-base-200 object-cover" onerror={() => (thumbnailMissing = true)} />
        {/if}
        <bdi class="min-w-0 truncate">
          {#if clip.title}<strong class="font-semibold">{clip.title}</strong>&ensp;{/if}
          <span class={clip.title || clip.sensitive ? "faint" : ""}>
            {#if clip.kind === "image"}{pictureLine(clip)}{:else}{#each parts(clip.preview, clip.marks) as part}{#if part.marked}<mark>{part.text}</mark>{:else}{part.text}{/if}{/each}{/if}
          </span>
          {#if clip.kind === "link" && clip.caption}&ensp;<span class="faint">{clip.caption}</span>{/if}
        </bdi>
      </span>
      {#if clip.copies > 1}
        <span class="badge badge-ghost badge-sm shrink-0" title="Copied {clip.copies} times">{clip.copies}×</span>
      {/if}
      {#if clip.source.selected}
        <span class="badge badge-ghost badge-sm shrink-0" title="It was only selected, and never copied">selected</span>
      {/if}
      {#if clip.elsewhere}
        <span class="badge badge-ghost badge-sm shrink-0" title="Its content is on another device, and is fetched when it is wanted">elsewhere</span>
      {/if}
      {#if clip.source.application}
        <bdi class="faint hidden max-w-36 shrink-0 truncate text-xs sm:block">{clip.source.application}</bdi>
      {/if}
    </button>
    {#if open}<Unfolded {clip} />{/if}
  </div>
</article>
