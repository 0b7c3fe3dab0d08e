<!-- What is under an entry: the whole of it, what can be done with it, and what is known of it. -->
<script lang="ts">
  import ClipboardCheck from "@lucide/svelte/icons/clipboard-check";
  import Copy from "@lucide/svelte/icons/copy";
  import Ellipsis from "@lucide/svelte/icons/ellipsis";
  import ExternalLink from "@lucide/svelte/icons/external-link";
  import Layers from "@lucide/svelte/icons/layers";
  import PinIcon from "@lucide/svelte/icons/pin";
  import RemoveFormatting from "@lucide/svelte/icons/remove-formatting";
  import Trash from "@lucide/svelte/icons/trash-2";
  import type { Clip, ClipDetail } from "../lib/api";
  import { href } from "../lib/router.svelte";
  import { COMMANDS, copyHere, pin, recall, remove, safeUrl, toTray } from "../state/commands.svelte";
  import { keymap } from "../state/keymap.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Menu from "../ui/Menu.svelte";
  import Content from "./Content.svelte";
  import Facts from "./Facts.svelte";

  let { clip, detail }: { clip: Clip; detail: ClipDetail | undefined } = $props();

  const rich = $derived((detail?.formats.length ?? 0) > 1 && clip.kind !== "image");
  const url = $derived(clip.kind === "link" && detail?.text ? safeUrl(detail.text.trim()) : undefined);
  const SHOWN = new Set(["recall", "plain", "copyHere", "pin", "toTray", "delete", "open", "choose"]);
  const others = $derived(
    COMMANDS.filter(
      (command) => command.scope === "entry" && !SHOWN.has(command.id) && (command.can?.([clip]) ?? true),
    ).map((command) => ({
      name: w().commands[command.id] ?? command.id,
      key: keymap.keys(command)[0],
      run: () => command.run([clip]),
    })),
  );
</script>

<div class="space-y-3 px-3 pt-1 pb-4 sm:px-4">
  <div class="flex flex-wrap gap-2">
    <Button look="primary" command="recall" title={w().entry.recallMeans} onclick={() => recall([clip])}
      ><ClipboardCheck size={16} aria-hidden="true" />{w().entry.recall}</Button
    >
    {#if rich}<Button command="plain" onclick={() => recall([clip], { plain: true })}
        ><RemoveFormatting size={16} aria-hidden="true" />{w().entry.plain}</Button
      >{/if}
    <Button command="copyHere" title={w().entry.copyHereMeans} onclick={() => copyHere(clip)}
      ><Copy size={16} aria-hidden="true" />{w().entry.copyHere}</Button
    >
    {#if url}<a class="btn btn-sm" href={url} target="_blank" rel="noreferrer noopener"
        ><ExternalLink size={16} aria-hidden="true" />{w().entry.openLink}<span class="sr-only">
          {w().entry.inNewTab}</span
        ></a
      >{/if}
    <Button command="pin" onclick={() => pin([clip])}
      ><PinIcon size={16} aria-hidden="true" />{clip.pinned ? w().entry.unpin : w().entry.pin}</Button
    >
    <Button command="toTray" onclick={() => toTray([clip])}
      ><Layers size={16} aria-hidden="true" />{w().entry.toTray}</Button
    >
    <Button command="delete" onclick={() => remove([clip])}
      ><Trash size={16} aria-hidden="true" />{w().entry.delete}</Button
    >
    {#if others.length > 0}<Menu label={w().entry.more} items={others}
        ><Ellipsis size={16} aria-hidden="true" />{w().entry.more}</Menu
      >{/if}
  </div>
  {#if !detail}
    <p class="faint text-sm" role="status">{w().entry.loading}</p>
  {:else}
    <Content {clip} {detail} />
    <Facts {clip} {detail} />
    <p class="text-sm">
      <a class="text-primary underline" href={href({ page: "clip", what: clip.id })}>{w().entry.alone}</a>
    </p>
  {/if}
</div>
