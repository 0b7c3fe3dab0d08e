<!-- The page itself: days and entries, of which only those in view are in the document. -->
<script lang="ts">
  import { tick } from "svelte";
  import { VList, type VListHandle } from "virtua/svelte";
  import { ledger, type Row } from "../../state/ledger.svelte";
  import { notices } from "../../state/notice.svelte";
  import Empty from "./Empty.svelte";
  import Entry from "./Entry.svelte";

  let { onsearch, onhelp }: { onsearch: () => void; onhelp: () => void } = $props();

  let list = $state<VListHandle>();
  let frame = $state<HTMLElement>();

  const activeRow = $derived(ledger.rows.findIndex((row) => row.key === ledger.active));
  // The entry with the focus stays in the document when it is scrolled out of view, and so does the focus.
  const keep = $derived(activeRow >= 0 ? [activeRow] : []);

  let focusGiven = 0;
  $effect(() => {
    const wanted = ledger.focusWanted;
    const row = activeRow;
    // An entry that is still to come gets the focus when it is there.
    if (wanted === focusGiven || (row < 0 && ledger.active)) return;
    focusGiven = wanted;
    if (row < 0) onsearch();
    else void bringIntoView(row);
  });

  async function bringIntoView(row: number) {
    await tick();
    list?.scrollToIndex(row, { align: "nearest" });
    // A new row is invisible, and takes no focus, until its height has been measured.
    for (let frames = 0; frames < 30; frames += 1) {
      const head = frame?.querySelector<HTMLElement>(`[data-entry="${ledger.active}"]`);
      head?.focus({ preventScroll: true });
      if (head && document.activeElement === head) return;
      await new Promise(requestAnimationFrame);
    }
  }

  function scrolled(offset: number) {
    const end = list ? list.getScrollSize() - list.getViewportSize() - offset : 0;
    if (end < 2_000) void ledger.loadMore();
  }

  // Single keys act only while an entry has the focus, so that they never get in the way of typing.
  function keydown(event: KeyboardEvent) {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const clip = ledger.activeClip();
    const onEntry = event.target instanceof HTMLElement && event.target.dataset["entry"] !== undefined;
    if (event.key === "Escape") {
      if (ledger.unfolded) {
        ledger.fold();
        ledger.focusWanted += 1;
      } else onsearch();
      return;
    }
    if (!onEntry) return;
    const keys: Record<string, () => void> = {
      ArrowDown: () => ledger.move(1),
      j: () => ledger.move(1),
      ArrowUp: () => (ledger.clips[0]?.id === ledger.active ? onsearch() : ledger.move(-1)),
      k: () => ledger.move(-1),
      PageDown: () => ledger.move(10),
      PageUp: () => ledger.move(-10),
      Home: () => ledger.move("first"),
      End: () => ledger.move("last"),
      "/": onsearch,
      "?": onhelp,
      r: () => clip && void ledger.recall(clip),
      t: () => clip && void ledger.recall(clip, true),
      c: () => clip && void ledger.copyHere(clip),
      Delete: () => clip && void ledger.remove(clip),
      u: () => void (notices.current?.action?.run() ?? ledger.undo()),
    };
    const act = keys[event.key];
    if (!act) return;
    event.preventDefault();
    act();
  }
</script>

{#snippet line(row: Row)}
  {#if row.kind === "day"}
    <h2 class="ledger-face grid grid-cols-[3.5rem_1fr] text-lg sm:grid-cols-[5rem_1fr]">
      <span></span>
      <span class="border-b border-base-300 border-l-2 border-l-secondary/60 pt-5 pb-1 pl-3 sm:pl-4">{row.label}</span>
    </h2>
  {:else}
    <Entry clip={row.clip} place={row.place} />
  {/if}
{/snippet}

{#if ledger.loaded && ledger.rows.length === 0}
  <Empty />
{:else}
  <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
  <section bind:this={frame} class="h-full" aria-label={ledger.query ? "Clips that meet the search" : "History"} onkeydown={keydown}>
    <VList bind:this={list} data={ledger.rows} getKey={(row: Row) => row.key} keepMounted={keep} bufferSize={600} onscroll={scrolled} class="h-full overflow-x-hidden pb-4">
      {#snippet children(row: Row)}
        {@render line(row)}
      {/snippet}
    </VList>
  </section>
{/if}
