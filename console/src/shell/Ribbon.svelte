<!-- The pinned clips, above the ledger: one click puts one on the clipboard. -->
<script lang="ts">
  import Pin from "@lucide/svelte/icons/pin";
  import * as api from "../lib/api";
  import { thumbnailUrl, type Clip } from "../lib/api";
  import { line } from "../lib/clips";
  import { href } from "../lib/router.svelte";
  import { take } from "../state/commands.svelte";
  import { hear } from "../state/live";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";

  const MOST = 24;
  const pins = new Resource<Clip[]>(api.pins, {});
  $effect(() => {
    const end = pins.watch();
    const deaf = hear({
      clip: (change) => {
        if (change.clip?.pinned || pins.value?.some((clip) => clip.id === change.id)) void pins.load();
      },
      reload: () => {},
    });
    return () => {
      deaf();
      end();
    };
  });
  const shown = $derived((pins.value ?? []).slice(0, MOST));
</script>

{#if shown.length > 0}
  <section class="flex items-center border-b border-base-300 bg-base-100" aria-label={w().ledger.ribbon}>
    <a
      class="faint flex items-center gap-1 py-2 pr-2 pl-3 text-xs hover:underline sm:pl-5"
      href={href({ page: "kept" })}
      ><Pin size={14} aria-hidden="true" /><span class="max-sm:sr-only">{w().pages.kept}</span></a
    >
    <ul class="flex min-w-0 gap-1.5 overflow-x-auto px-1 py-1.5">
      {#each shown as clip (clip.id)}
        <li class="shrink-0">
          <button
            type="button"
            class="flex h-9 max-w-48 items-center gap-2 rounded-sm border border-base-300 bg-base-200/60 px-2.5 text-sm hover:border-primary"
            title={w().ledger.recallPinned}
            onclick={() => take(clip)}
          >
            {#if clip.mark}<span class="mark-{clip.mark} size-2 shrink-0 rounded-full" aria-hidden="true"></span>{/if}
            {#if clip.kind === "image" && !clip.sensitive}<img
                src={thumbnailUrl(clip.id)}
                alt=""
                class="h-6 max-w-16 rounded-xs object-contain"
              />{/if}
            <bdi class="truncate">{clip.title ?? line(clip)}</bdi>
          </button>
        </li>
      {/each}
    </ul>
  </section>
{/if}
