<!-- A list of clips: days, headings and entries, of which only those in view are in the document. -->
<script lang="ts">
  import { tick, onMount, untrack, type Snippet } from "svelte";
  import { VList, type VListHandle } from "virtua/svelte";
  import ArrowUp from "@lucide/svelte/icons/arrow-up";
  import { COMMANDS, frame } from "../state/commands.svelte";
  import { chord, keymap } from "../state/keymap.svelte";
  import { preferences } from "../state/preferences.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Entry from "./Entry.svelte";
  import { getList, type Row } from "./list.svelte";
  import { Slots } from "./slots";

  type Props = {
    label: string;
    empty: Snippet;
    /** What Escape and the arrow at the top lead to. */
    onleave?: () => void;
    /** Keys that only this page has. */
    onkey?: (key: string) => (() => unknown) | undefined;
    /** What stands at the end of an entry's line. */
    beside?: Snippet<[Row & { kind: "entry" }]>;
    headingActions?: Snippet<[Row & { kind: "heading" }]>;
    /** What is under an unfolded entry, if not the usual. */
    unfolded?: Snippet<[Row & { kind: "entry" }]>;
  };
  let { label, empty, onleave = () => {}, onkey, beside, headingActions, unfolded }: Props = $props();

  /** Rows are measured before they are painted, so none has to be hidden until then, which would have each styled twice. */
  const shown = () => ({ style: { visibility: "visible" } });

  const list = getList();
  let handle = $state<VListHandle>();
  let holder = $state<HTMLElement>();
  /** The first entry that is in view, and so the day that one is reading. */
  let top = $state(0);

  /** Whether a letter was typed a moment ago: then no more is made than what can be seen. */
  let typing = $state(false);
  $effect(() => {
    if (!list.query) return;
    typing = true;
    const calm = setTimeout(() => (typing = false), 250);
    return () => clearTimeout(calm);
  });

  /** An empty list stays where it is, unseen: with the next letter it may have entries again, and knows its size. */
  const isEmpty = $derived(list.loaded && list.rows.length === 0);

  const slots = new Slots();
  const slotOf = $derived.by(() => {
    const entries = list.rows.filter((row) => row.kind === "entry");
    return slots.take(
      entries.map((row) => row.key),
      untrack(() => list.active),
    );
  });
  const activeRow = $derived(list.rows.findIndex((row) => row.key === list.active));
  // The entry with the focus stays in the document when it is scrolled out of view, and so does the focus.
  const keep = $derived(activeRow >= 0 ? [activeRow] : []);
  const dayAbove = $derived.by(() => {
    if (!list.byDay || list.rows[top]?.kind === "day") return "";
    const day = list.rows.slice(0, top).findLast((row) => row.kind === "day");
    return day?.kind === "day" ? day.label : "";
  });

  onMount(() => {
    // Whoever comes back finds the place that was left.
    const { reading } = list;
    const row = reading ? list.rows.findIndex((row) => row.key === reading.key) : -1;
    if (reading && row >= 0) void tick().then(() => handle?.scrollToIndex(row, { align: "start", offset: reading.by }));
    frame.list = list;
    return () => {
      if (frame.list === list) frame.list = undefined;
    };
  });

  let focusGiven = list.focusWanted;
  $effect(() => {
    const wanted = list.focusWanted;
    const row = activeRow;
    // An entry that is still to come gets the focus when it is there.
    if (wanted === focusGiven || (row < 0 && list.active)) return;
    focusGiven = wanted;
    if (row < 0) onleave();
    else void bringIntoView(row);
  });

  async function bringIntoView(row: number) {
    await tick();
    handle?.scrollToIndex(row, { align: "nearest" });
    // A row that was not in view is in the document only a frame later.
    for (let frames = 0; frames < 30; frames += 1) {
      const head = holder?.querySelector<HTMLElement>(`[data-entry="${list.active}"]`);
      head?.focus({ preventScroll: true });
      if (head && document.activeElement === head) {
        // Not under the day that is shown above.
        const hidden = holder ? holder.getBoundingClientRect().top + 40 - head.getBoundingClientRect().top : 0;
        if (hidden > 0 && row > 0) handle?.scrollBy(-hidden);
        return;
      }
      await new Promise(requestAnimationFrame);
    }
  }

  function scrolled(offset: number) {
    if (!handle) return;
    list.scrolled = offset > 4;
    if (!list.scrolled) list.unseen = 0;
    top = handle.findItemIndex(offset + 1);
    const row = list.rows[top];
    list.reading = row && offset > 0 ? { key: row.key, by: offset - handle.getItemOffset(top) } : undefined;
    if (handle.getScrollSize() - handle.getViewportSize() - offset < 2_000) void list.loadMore();
  }

  // Single keys act only while an entry has the focus, so that they never get in the way of typing or of a screen reader.
  function keydown(event: KeyboardEvent) {
    if (event.defaultPrevented) return;
    const onEntry = event.target instanceof HTMLElement && event.target.dataset["entry"] !== undefined;
    const key = chord(event);
    if (key === "Escape") {
      if (list.unfolded) {
        list.fold();
        list.focusWanted += 1;
      } else if (list.chosen.size > 0) list.chooseNone();
      else onleave();
      event.preventDefault();
      return;
    }
    if (!onEntry) return;
    const moving: Record<string, () => void> = {
      ArrowDown: () => list.move(1),
      j: () => list.move(1),
      ArrowUp: () => (list.clips[0]?.id === list.active ? onleave() : list.move(-1)),
      k: () => list.move(-1),
      "Shift+ArrowDown": () => list.move(1, true),
      "Shift+ArrowUp": () => list.move(-1, true),
      PageDown: () => list.move(10),
      PageUp: () => list.move(-10),
      Home: () => list.move("first"),
      End: () => list.move("last"),
    };
    const command = keymap.held(key);
    const targets = list.targets();
    const act =
      onkey?.(key) ??
      moving[key] ??
      (command && COMMANDS.includes(command) && targets.length > 0 && (command.can?.(targets) ?? true)
        ? () => command.run(targets)
        : undefined);
    if (!act) return;
    event.preventDefault();
    event.stopPropagation();
    act();
  }
</script>

<div class="relative h-full">
  {#if isEmpty}
    <div class="h-full overflow-y-auto">{@render empty()}</div>
  {/if}
  <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
  <section
    bind:this={holder}
    class="absolute inset-0 {isEmpty ? 'invisible' : ''}"
    aria-label={label}
    onkeydown={keydown}
    data-density={preferences.density}
  >
    {#if dayAbove}
      <p
        class="ledger-face absolute inset-x-0 top-0 z-10 grid grid-cols-[3.5rem_1fr] border-b border-base-300 bg-base-100 text-lg sm:grid-cols-[5rem_1fr]"
        aria-hidden="true"
      >
        <span></span><span class="border-l-2 border-l-secondary/60 py-1 pl-3 sm:pl-4">{dayAbove}</span>
      </p>
    {/if}
    {#if list.unseen > 0}
      <div class="absolute inset-x-0 top-1 z-10 flex justify-center">
        <Button look="primary" onclick={() => handle?.scrollTo(0)}
          ><ArrowUp size={15} aria-hidden="true" />{w().ledger.unseen(list.unseen)}</Button
        >
      </div>
    {/if}
    <VList
      bind:this={handle}
      data={list.rows}
      getKey={(row: Row) => slotOf.get(row.key) ?? row.key}
      keepMounted={keep}
      bufferSize={typing ? 0 : 500}
      shift={list.shifting}
      itemProps={shown}
      onscroll={scrolled}
      class="h-full overflow-x-hidden pb-4"
    >
      {#snippet children(row: Row)}
        {#if row.kind === "day"}
          <h2 class="ledger-face grid grid-cols-[3.5rem_1fr] text-lg sm:grid-cols-[5rem_1fr]">
            <span></span>
            <span class="border-b border-base-300 border-l-2 border-l-secondary/60 pt-4 pb-1 pl-3 sm:pl-4"
              >{row.label}</span
            >
          </h2>
        {:else if row.kind === "heading"}
          <div class="grid grid-cols-[3.5rem_1fr] sm:grid-cols-[5rem_1fr]">
            <span></span>
            <div
              class="flex items-end justify-between gap-2 border-b border-base-300 border-l-2 border-l-secondary/60 pt-4 pr-3 pb-1 pl-3 sm:pl-4"
            >
              <h2 class="ledger-face text-lg break-words"><bdi>{row.words}</bdi></h2>
              {#if headingActions}{@render headingActions(row)}{/if}
            </div>
          </div>
        {:else}
          <Entry {row} {beside} {unfolded} />
        {/if}
      {/snippet}
    </VList>
  </section>
</div>
