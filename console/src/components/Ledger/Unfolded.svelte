<!-- What is under an entry: its words or its picture, what is known of it, and what can be done. -->
<script lang="ts">
  import ClipboardCheck from "@lucide/svelte/icons/clipboard-check";
  import Copy from "@lucide/svelte/icons/copy";
  import RemoveFormatting from "@lucide/svelte/icons/remove-formatting";
  import Trash from "@lucide/svelte/icons/trash-2";
  import { content, contentUrl, thumbnailUrl, type Clip } from "../../lib/api";
  import { whole } from "../../lib/days";
  import { count, extent, size, shared } from "../../lib/words";
  import { ledger } from "../../state/ledger.svelte";
  import { notices } from "../../state/notice.svelte";

  let { clip }: { clip: Clip } = $props();

  const PICTURES = ["image/png", "image/webp", "image/jpeg", "image/bmp", "image/svg+xml"];
  const detail = $derived(ledger.detail?.id === clip.id ? ledger.detail : undefined);
  const picture = $derived(PICTURES.find((mime) => detail?.formats.some((format) => format.mime === mime)));
  const url = $derived(clip.kind === "link" && detail?.text ? safeUrl(detail.text.trim()) : undefined);
  const rich = $derived((detail?.formats.length ?? 0) > 1 && clip.kind !== "image");
  const missing = $derived(detail?.files.filter((file) => file.missing).length ?? 0);
  let revealed = $state<string>();

  /** Only addresses that a browser may open; a clip may hold anything. */
  function safeUrl(text: string): string | undefined {
    return /^(https?|mailto|tel|ftp):/i.test(text) ? text : undefined;
  }

  async function reveal() {
    try {
      const [first] = detail?.formats ?? [];
      if (first) revealed = await (await content(clip.id, first.mime)).text();
    } catch (error) {
      notices.wrong(error);
    }
  }
</script>

<div class="space-y-3 px-3 pt-1 pb-4 sm:px-4">
  <div class="flex flex-wrap gap-2">
    <button class="btn btn-primary btn-sm" onclick={() => ledger.recall(clip)}><ClipboardCheck size={16} aria-hidden="true" />Put on the clipboard</button>
    {#if rich}
      <button class="btn btn-sm" onclick={() => ledger.recall(clip, true)}><RemoveFormatting size={16} aria-hidden="true" />As plain text</button>
    {/if}
    <button class="btn btn-sm" onclick={() => ledger.copyHere(clip)}><Copy size={16} aria-hidden="true" />Copy in this browser</button>
    <button class="btn btn-sm" onclick={() => ledger.remove(clip)}><Trash size={16} aria-hidden="true" />Delete</button>
  </div>

  {#if !detail}
    <p class="faint text-sm" role="status">Looking it up…</p>
  {:else}
    {#if clip.kind === "image"}
      <!-- What a browser cannot show, or would set in motion, is shown by its small picture. -->
      <img src={picture ? contentUrl(clip.id, picture) : thumbnailUrl(clip.id)} alt={clip.title ?? clip.caption ?? "The copied picture"} class="max-h-96 max-w-full rounded-sm border border-base-300 bg-[repeating-conic-gradient(var(--color-base-200)_0_25%,var(--color-base-100)_0_50%)] bg-size-[16px_16px]" />
    {:else if detail.files.length > 0}
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <div class="max-h-96 overflow-auto rounded-sm border border-base-300 bg-base-100 p-3" tabindex="0" role="region" aria-label="The files">
        <ul class="space-y-1 font-mono text-sm">
          {#each detail.files as file (file.uri)}
            <li class="flex flex-wrap items-baseline gap-x-3 break-all"><bdi class={file.missing ? "faint line-through" : ""}>{file.path}</bdi>{#if file.missing}<span class="font-sans font-semibold text-warning">missing</span>{/if}</li>
          {/each}
        </ul>
      </div>
      {#if missing > 0}<p class="text-sm" role="note">{missing === detail.files.length ? "None of these files is" : `${count(missing, "of these files is", "of these files are")} not`} there any more{missing === detail.files.length ? "" : ", and cannot be pasted"}.</p>{/if}
    {:else if clip.sensitive && revealed === undefined}
      <p class="text-sm">It looks like a {clip.sensitive.replace("-", " ")}, so its words are hidden, and it goes by itself{clip.expires_at ? ` at ${whole(new Date(clip.expires_at))}` : ""}.</p>
      <button class="btn btn-sm" onclick={reveal}>Show the words</button>
    {:else}
      <!-- A long text scrolls by itself, so it must be reachable by keyboard. -->
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <pre class="max-h-96 overflow-auto rounded-sm border border-base-300 bg-base-100 p-3 font-mono text-sm break-words whitespace-pre-wrap" dir="auto" tabindex="0" role="region" aria-label="The words of the clip">{revealed ?? detail.text ?? ""}</pre>
      {#if !detail.text_is_whole}<p class="faint text-sm">This is the beginning; the whole is in its formats below.</p>{/if}
      {#if url}<p><a class="text-primary underline" href={url} target="_blank" rel="noreferrer noopener">Open the link<span class="sr-only"> in a new tab</span></a></p>{/if}
    {/if}

    <dl class="grid grid-cols-[max-content_1fr] gap-x-4 gap-y-1 text-sm">
      <dt class="faint">Extent</dt>
      <dd>{extent(clip)}</dd>
      <dt class="faint">Copied</dt>
      <dd>{whole(new Date(clip.copied_at))}, {count(clip.copies, "time", "times")} in all</dd>
      {#if clip.recalled_at}
        <dt class="faint">Recalled</dt>
        <dd>{whole(new Date(clip.recalled_at))}, {count(clip.recalls, "time", "times")} in all</dd>
      {/if}
      {#if clip.source.application || clip.source.window}
        <dt class="faint">From</dt>
        <dd class="break-words"><bdi>{[clip.source.application, clip.source.window].filter(Boolean).join(", ")}</bdi></dd>
      {/if}
      {#if clip.source.selected}
        <dt class="faint">Selected</dt>
        <dd>It was only selected, and never copied</dd>
      {/if}
      {#if clip.source.page}
        <dt class="faint">Page</dt>
        <dd class="break-all">{clip.source.page}</dd>
      {/if}
      <dt class="faint">Device</dt>
      <dd><bdi>{clip.device}</bdi>{shared(clip)}</dd>
      <dt class="faint">Formats</dt>
      <dd class="flex flex-wrap gap-x-3">
        {#each detail.formats as format (format.mime)}
          <a class="underline" href={contentUrl(clip.id, format.mime)} download>{format.mime} ({size(format.size)})</a>
        {/each}
      </dd>
    </dl>
  {/if}
</div>
