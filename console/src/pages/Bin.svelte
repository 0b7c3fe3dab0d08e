<!-- What was deleted or went by the rules, until it goes for good. -->
<script lang="ts">
  import ArchiveRestore from "@lucide/svelte/icons/archive-restore";
  import * as api from "../lib/api";
  import type { Clip } from "../lib/api";
  import { namedAll } from "../lib/clips";
  import { size } from "../lib/format";
  import { run } from "../state/notices.svelte";
  import { w } from "../words/index.svelte";
  import Clips from "../list/Clips.svelte";
  import { giveList } from "../list/list.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";
  import { bin } from "./lists.svelte";

  const list = giveList(bin());
  $effect(() => list.watch());
  let asking = $state(false);
  const bytes = $derived(list.clips.reduce((sum, clip) => sum + clip.size, 0));

  const restore = async (clips: Clip[]) => {
    await run(
      () => api.restore(clips.map((clip) => clip.id)),
      () => w().bin.restored(namedAll(clips)),
    );
    list.chooseNone();
    await list.load();
  };

  async function empty() {
    asking = false;
    await run(api.emptyBin, ({ count }) => w().bin.emptied(count));
    await list.load();
  }

  // Nothing here can be recalled, pinned or deleted: the only key is that which brings back.
  const key = (chord: string) => {
    if (["r", "u", "Enter"].includes(chord)) return () => restore(list.targets());
    return /^(Arrow|Shift\+Arrow|Page|Home|End|[jkx]$)/.test(chord) ? undefined : () => {};
  };
</script>

<div class="flex h-full flex-col">
  <header class="flex flex-wrap items-center gap-3 border-b border-base-300 px-4 py-4 sm:px-5">
    <div class="min-w-0 grow">
      <h1 class="ledger-face text-3xl" tabindex="-1" data-page-title>{w().pages.bin}</h1>
      <p class="faint text-sm" role="status">{list.loaded ? w().bin.about(list.total, size(bytes)) : ""}</p>
    </div>
    {#if list.chosen.size > 0}<Button look="primary" onclick={() => restore(list.targets())}
        >{w().bin.restoreChosen(list.chosen.size)}</Button
      >{/if}
    <Button disabled={list.total === 0} onclick={() => restore(list.clips)}>{w().bin.restoreAll}</Button>
    <Button look="warning" disabled={list.total === 0} onclick={() => (asking = true)}>{w().bin.empty}</Button>
  </header>
  <div class="min-h-0 grow">
    <Clips label={w().pages.bin} onkey={key}>
      {#snippet beside(row)}<Button look="quiet" onclick={() => restore([row.clip])}
          ><ArchiveRestore size={15} aria-hidden="true" /><span class="max-sm:sr-only">{w().bin.restore}</span></Button
        >{/snippet}
      {#snippet unfolded(row)}
        <p class="px-4 pb-3 text-sm">
          {w().bin.inBin}
          <Button onclick={() => restore([row.clip])}>{w().bin.restore}</Button>
        </p>
      {/snippet}
      {#snippet empty()}
        <div class="mx-auto max-w-xl px-6 py-14">
          <h2 class="ledger-face text-2xl">{w().bin.isEmpty}</h2>
          <p class="mt-3">{w().bin.isEmptyHint}</p>
        </div>
      {/snippet}
    </Clips>
  </div>
</div>

{#if asking}
  <Dialog title={w().bin.emptyTitle} onclose={() => (asking = false)}>
    <p>{w().bin.emptyMeans(list.total)}</p>
    {#snippet actions()}<Button look="warning" onclick={empty}>{w().bin.empty}</Button>{/snippet}
  </Dialog>
{/if}
