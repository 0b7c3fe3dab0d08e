<!-- One entry of a list, which unfolds in place. Its height is that of what is in it: up to three lines of a text, a picture at
     its proportions, a link with its host before its path. -->
<script lang="ts">
  import type { Snippet } from "svelte";
  import { thumbnailUrl } from "../lib/api";
  import { line, parts } from "../lib/clips";
  import { clock, relative, shortDay, whole } from "../lib/format";
  import { w } from "../words/index.svelte";
  import Badge from "../ui/Badge.svelte";
  import Glyph from "../ui/Glyph.svelte";
  import Unfolded from "../entry/Unfolded.svelte";
  import { getList, type Row } from "./list.svelte";
  import { marked } from "./marked";

  type EntryRow = Row & { kind: "entry" };
  let {
    row,
    beside,
    unfolded,
  }: { row: EntryRow; beside?: Snippet<[EntryRow]> | undefined; unfolded?: Snippet<[EntryRow]> | undefined } = $props();

  /** How near its end a clip is said to go, in milliseconds. */
  const NEAR = 24 * 3_600_000;

  const list = getList();
  const clip = $derived(row.clip);
  const at = $derived(new Date(clip.copied_at));
  const open = $derived(list.unfolded === clip.id);
  const chosen = $derived(list.chosen.has(clip.id));
  const goes = $derived(clip.expires_at ? new Date(clip.expires_at) : undefined);
  const nearEnd = $derived(goes !== undefined && goes.getTime() - Date.now() < NEAR ? goes : undefined);
  // The whole list has one place in the order of the Tab key: the active entry, or else the first.
  const tabbable = $derived(list.active ? list.active === clip.id : row.place === 1);
  /** The clip of which there is no small picture. */
  let without = $state<string>();
  /** Above this a picture has no small one. */
  const MOST_PIXELS = 100_000_000;
  const pixels = $derived((clip.width ?? 0) * (clip.height ?? 0));
  const picture = $derived(
    clip.kind === "image" && !clip.sensitive && without !== clip.id && pixels > 0 && pixels <= MOST_PIXELS,
  );
  /** A picture is shown at its proportions, 96 pixels high at most and as wide as there is room. */
  const shown = $derived.by(() => {
    const [width, height] = [clip.width ?? 96, clip.height ?? 64];
    const scale = Math.min(1, 96 / height, 260 / width);
    return [Math.max(8, Math.round(width * scale)), Math.max(8, Math.round(height * scale))] as const;
  });

  function click(event: MouseEvent) {
    if (event.shiftKey) {
      getSelection()?.removeAllRanges();
      list.chooseTo(clip.id);
      list.active = clip.id;
    } else if (event.ctrlKey || event.metaKey) {
      list.active = clip.id;
      list.choose(clip.id);
    } else void list.toggle(clip);
  }
</script>

<article
  class="entry grid grid-cols-[3.5rem_1fr] sm:grid-cols-[5rem_1fr] {open ? 'bg-base-200' : ''}"
  aria-posinset={row.place}
  aria-setsize={list.query || list.more ? -1 : list.total}
  aria-labelledby="line-{clip.id}"
  data-chosen={chosen || undefined}
>
  <div class="flex flex-col items-end pt-2 pr-2 sm:pr-3">
    <time datetime={clip.copied_at} class="faint text-xs tabular-nums" title={whole(at)}
      >{list.byDay ? clock(at) : shortDay(at)}</time
    >
    {#if list.isHistory && clip.position && clip.position <= 99}<span
        class="faint mt-0.5 text-[0.7rem] tabular-nums opacity-80"
        aria-hidden="true">{clip.position}</span
      >{/if}
  </div>
  <div class="min-w-0 border-b border-base-300 border-l-2 border-l-secondary/60">
    <div class="flex items-start">
      <button
        type="button"
        data-entry={clip.id}
        class="entry-line flex min-w-0 grow cursor-pointer items-start gap-2.5 px-3 text-left hover:bg-base-200 focus-visible:-outline-offset-2 sm:px-4 {chosen
          ? 'bg-accent/40'
          : ''}"
        aria-expanded={open}
        aria-current={chosen || undefined}
        tabindex={tabbable ? 0 : -1}
        onfocus={() => (list.active = clip.id)}
        onclick={click}
      >
        <Glyph
          of={chosen ? "chosen" : clip.sensitive ? "sensitive" : clip.kind}
          size={15}
          class="{chosen ? '' : 'faint'} mt-1 shrink-0"
        />
        {#if clip.mark}<span
            class="mark-{clip.mark} mt-1.5 size-2.5 shrink-0 rounded-full"
            title={w().clips.colours[clip.mark]}
          ></span>{/if}
        <span id="line-{clip.id}" class="min-w-0 grow">
          <span class="sr-only"
            >{chosen ? `${w().clips.chosen}, ` : ""}{clip.sensitive
              ? w().clips.sensitive
              : w().clips.kinds[clip.kind]}{clip.mark ? `, ${w().clips.colours[clip.mark]}` : ""}:</span
          >
          {#if clip.title}<bdi class="block truncate font-semibold">{clip.title}</bdi>{/if}
          {#if picture}
            <img
              src={thumbnailUrl(clip.id)}
              alt=""
              loading="lazy"
              width={shown[0]}
              height={shown[1]}
              class="my-0.5 block rounded-sm border border-base-300 bg-base-200 object-contain"
              onerror={() => (without = clip.id)}
            />
            <span class="faint text-sm">{line(clip)}</span>
          {:else}
            <bdi
              class="entry-text block break-words {clip.excerpt ? 'whitespace-pre-wrap' : ''} {clip.title ||
              clip.sensitive
                ? 'faint'
                : ''}"
              dir="auto"
              {@attach marked(parts(clip.excerpt ?? line(clip), clip.sensitive ? [] : clip.marks))}
            ></bdi>
          {/if}
          {#if clip.kind === "link" && clip.caption}<bdi class="faint block truncate text-sm">{clip.caption}</bdi>{/if}
        </span>
        <span class="mt-0.5 flex max-w-[40%] shrink-0 flex-wrap items-center justify-end gap-1.5">
          {#if row.note}<span class="faint text-xs">{row.note}</span>{/if}
          {#if clip.alias}<Badge word=":{clip.alias}" meaning={w().clips.aliasIs(clip.alias)} />{/if}
          {#if nearEnd}<Badge
              loud
              word={w().clips.goes(relative(nearEnd))}
              meaning={w().clips.goesAt(whole(nearEnd))}
            />{/if}
          {#if clip.copies > 1}<Badge word="{clip.copies}×" meaning={w().clips.copied(clip.copies)} />{/if}
          {#if clip.source.selected}<Badge word={w().clips.selected} meaning={w().clips.selectedOnly} />{/if}
          {#if clip.elsewhere}<Badge word={w().clips.elsewhere} meaning={w().clips.elsewhereMeans} />{/if}
          {#if clip.pinned}<Glyph of="pin" size={14} class="faint shrink-0" label={w().clips.pinned} />{/if}
          {#if clip.source.application}<bdi class="faint hidden max-w-28 truncate text-xs lg:block"
              >{clip.source.application}</bdi
            >{/if}
        </span>
      </button>
      {#if beside}<div class="flex shrink-0 items-center gap-0.5 pt-1 pr-2">{@render beside(row)}</div>{/if}
    </div>
    {#if open}{#if unfolded}{@render unfolded(row)}{:else}<Unfolded {clip} detail={list.detail} />{/if}{/if}
  </div>
</article>
