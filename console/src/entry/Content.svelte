<!-- The content of a clip, whatever it is, rendered so that it can do nothing. -->
<script lang="ts">
  import { content, contentUrl, thumbnailUrl, type Clip, type ClipDetail } from "../lib/api";
  import { whole } from "../lib/format";
  import { run } from "../state/notices.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";

  let { clip, detail }: { clip: Clip; detail: ClipDetail } = $props();

  // What a browser cannot show, or would set in motion, is shown by its small picture.
  const PICTURES = ["image/png", "image/webp", "image/jpeg", "image/bmp", "image/svg+xml"];
  /** Above this the browser is not asked to decode the whole. */
  const MOST_PIXELS = 50_000_000;

  const pixels = $derived((clip.width ?? 0) * (clip.height ?? 0));
  const picture = $derived(
    pixels > MOST_PIXELS ? undefined : PICTURES.find((mime) => detail.formats.some((format) => format.mime === mime)),
  );
  const source = $derived(picture ? contentUrl(clip.id, picture) : thumbnailUrl(clip.id));
  const html = $derived(detail.formats.some((format) => format.mime === "text/html") && !clip.sensitive);
  const missing = $derived(detail.files.filter((file) => file.missing).length);
  let revealed = $state<string>();
  let formatted = $state<string>();
  let zoomed = $state(false);

  async function reveal() {
    const [first] = detail.formats;
    if (first) revealed = await run(async () => (await content(clip.id, first.mime)).text());
  }

  async function format() {
    formatted =
      formatted === undefined
        ? await run(async () =>
            (await import("../lib/html")).safeHtml(await (await content(clip.id, "text/html")).text()),
          )
        : undefined;
  }

  async function showAll() {
    const plain = detail.formats.find((format) => format.mime.startsWith("text/plain"));
    if (plain) revealed = await run(async () => (await content(clip.id, plain.mime)).text());
  }
</script>

{#if clip.kind === "image"}
  <button type="button" class="block cursor-zoom-in" onclick={() => (zoomed = true)} aria-label={w().entry.zoom}>
    <img
      src={source}
      alt={clip.title ?? clip.caption ?? w().entry.picture}
      class="checkered max-h-96 max-w-full rounded-sm border border-base-300"
    />
  </button>
  {#if !picture && pixels > MOST_PIXELS}<p class="faint text-sm">{w().entry.tooManyPixels}</p>{/if}
  {#if zoomed}
    <Dialog title={clip.title ?? w().entry.picture} wide onclose={() => (zoomed = false)}>
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <div class="max-h-[70vh] overflow-auto" tabindex="0" role="region" aria-label={w().entry.picture}>
        <img src={source} alt="" class="checkered max-w-none" />
      </div>
    </Dialog>
  {/if}
{:else if detail.files.length > 0}
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div
    class="max-h-96 overflow-auto rounded-sm border border-base-300 bg-base-100 p-3"
    tabindex="0"
    role="region"
    aria-label={w().entry.files}
  >
    <ul class="space-y-1 font-mono text-sm">
      {#each detail.files as file (file.uri)}
        <li class="flex flex-wrap items-baseline gap-x-3 break-all">
          <bdi class={file.missing ? "faint line-through" : ""}>{file.path}</bdi>{#if file.missing}<span
              class="font-sans font-semibold text-warning">{w().entry.missing}</span
            >{/if}
        </li>
      {/each}
    </ul>
  </div>
  {#if missing > 0}<p class="text-sm" role="note">{w().entry.missingFiles(missing, detail.files.length)}</p>{/if}
{:else if clip.sensitive && revealed === undefined}
  <p class="text-sm">
    {w().entry.sensitive(
      w().clips.secrets[clip.sensitive],
      clip.expires_at ? whole(new Date(clip.expires_at)) : undefined,
    )}
  </p>
  <Button onclick={reveal}>{w().entry.reveal}</Button>
{:else}
  {#if formatted !== undefined}
    <!-- No script, no form, no link out of it, nothing from elsewhere: and what it holds has been cleaned besides. -->
    <iframe
      sandbox=""
      srcdoc={formatted}
      title={w().entry.formatted}
      class="h-80 w-full rounded-sm border border-base-300 bg-white"
    ></iframe>
  {:else}
    <!-- A long text scrolls by itself, so it must be reachable by keyboard. -->
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <pre
      class="max-h-96 overflow-auto rounded-sm border border-base-300 bg-base-100 p-3 font-mono text-sm break-words whitespace-pre-wrap"
      dir="auto"
      tabindex="0"
      role="region"
      aria-label={w().entry.words}>{revealed ?? detail.text ?? ""}</pre>
  {/if}
  <div class="flex flex-wrap items-center gap-2">
    {#if html}<Button onclick={format} aria-pressed={formatted !== undefined}
        >{formatted === undefined ? w().entry.showFormatted : w().entry.showText}</Button
      >{/if}
    {#if !detail.text_is_whole && revealed === undefined}
      <p class="faint text-sm">{w().entry.beginning}</p>
      <Button onclick={showAll}>{w().entry.showAll}</Button>
    {/if}
  </div>
{/if}
