<!-- The tray along the bottom edge, while it is open: what is in it, what comes next, and how it is dealt or poured. -->
<script lang="ts">
  import ChevronDown from "@lucide/svelte/icons/chevron-down";
  import ChevronUp from "@lucide/svelte/icons/chevron-up";
  import X from "@lucide/svelte/icons/x";
  import { named } from "../lib/clips";
  import { arrangeTray, closeTray, dealBack, dealNext, frame, restartTray } from "../state/commands.svelte";
  import { keymap } from "../state/keymap.svelte";
  import { service } from "../state/service.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import IconButton from "../ui/IconButton.svelte";
  import { moving } from "../ui/moving";

  const tray = $derived(service.tray.value);
  const items = $derived(tray?.items ?? []);
  const shown = $derived(tray !== undefined && (tray.open || items.some((item) => !item.dealt)));
  const next = $derived(items.find((item) => item.place === tray?.next));
  let unfolded = $state(innerWidth >= 768);

  const move = moving({
    count: () => items.length,
    move: (from, to) => arrangeTray(from, to),
  });
</script>

{#if shown && tray}
  <section
    class="max-h-[45vh] overflow-y-auto border-t-2 border-primary bg-base-200 px-3 py-2 sm:px-5"
    aria-label={w().tray.title}
  >
    <div class="flex flex-wrap items-center gap-2">
      <h2 class="ledger-face text-lg">{w().tray.title}</h2>
      <p class="min-w-0 grow truncate text-sm" role="status">
        {#if next}{w().tray.next(named(next.clip))}{:else if items.length === 0}{w().tray.empty}{:else}{w().tray
            .allDealt}{/if}
      </p>
      <Button look="primary" command="next" disabled={!next} onclick={dealNext}>{w().tray.deal}</Button>
      {#if unfolded}
        <Button onclick={dealBack} disabled={!items.some((item) => item.dealt)}>{w().tray.back}</Button>
        <Button onclick={restartTray} disabled={!items.some((item) => item.dealt)}>{w().tray.restart}</Button>
        <Button disabled={items.length === 0} onclick={() => (frame.question = { kind: "pour" })}
          >{w().tray.pour}</Button
        >
        <Button onclick={() => closeTray(true)}>{w().tray.close}</Button>
      {/if}
      <IconButton
        icon={unfolded ? ChevronDown : ChevronUp}
        name={unfolded ? w().tray.fold : w().tray.unfold}
        aria-expanded={unfolded}
        onclick={() => (unfolded = !unfolded)}
      />
    </div>
    {#if unfolded && items.length > 0}
      <p id="tray-help" class="sr-only">{w().moving.help}</p>
      <ol class="mt-2 flex flex-wrap gap-1.5" aria-label={w().tray.items}>
        {#each items as item (item.clip.id)}
          <li
            class="flex max-w-72 items-center rounded-sm border bg-base-100 {item.place === tray.next
              ? 'border-2 border-primary'
              : 'border-base-300'} {item.dealt ? 'opacity-80' : ''}"
            use:move={item.place}
          >
            <button
              type="button"
              class="min-w-0 cursor-grab truncate px-2 py-1 text-left text-sm"
              aria-describedby="tray-help"
            >
              <span class="faint tabular-nums">{item.place}</span>
              <bdi class={item.dealt ? "line-through" : ""}>{named(item.clip)}</bdi>{#if item.dealt}<span
                  class="sr-only">, {w().tray.dealt}</span
                >{/if}
            </button>
            <IconButton
              icon={X}
              size={14}
              class="btn-xs"
              name={w().tray.drop(named(item.clip))}
              onclick={() => arrangeTray(item.place)}
            />
          </li>
        {/each}
      </ol>
    {:else if items.length === 0}
      <p class="faint mt-1 text-sm">{w().tray.about(keymap.first("toTray") ?? "")}</p>
    {/if}
  </section>
{/if}
