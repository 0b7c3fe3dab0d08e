<!-- A button that opens a list of things to do. Arrow keys move in it, Escape closes it. -->
<script lang="ts" module>
  export type Item = { name: string; run: () => unknown; key?: string | undefined; checked?: boolean };
</script>

<script lang="ts">
  import type { Snippet } from "svelte";

  let {
    label,
    items,
    children,
    class: more = "",
  }: { label: string; items: Item[]; children: Snippet; class?: string } = $props();
  let open = $state(false);
  let box = $state<HTMLElement>();
  let opener = $state<HTMLElement>();
  const id = $props.id();

  const buttons = () => [...(box?.querySelectorAll<HTMLElement>("[role^=menuitem]") ?? [])];

  function toggle() {
    open = !open;
    if (open) requestAnimationFrame(() => buttons()[0]?.focus());
  }

  function close() {
    open = false;
    opener?.focus();
  }

  function keydown(event: KeyboardEvent) {
    if (!open) return;
    const all = buttons();
    const at = all.indexOf(document.activeElement as HTMLElement);
    const to = { ArrowDown: at + 1, ArrowUp: at - 1 + all.length, Home: 0, End: all.length - 1 }[event.key];
    if (to !== undefined) all[to % all.length]?.focus();
    else if (event.key === "Escape") close();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  /** The focus has gone elsewhere: that is known when it has arrived. */
  function leave() {
    requestAnimationFrame(() => {
      if (!box?.contains(document.activeElement)) open = false;
    });
  }
</script>

<!-- svelte-ignore a11y_no_static_element_interactions -->
<div class="relative inline-block {more}" bind:this={box} onkeydown={keydown} onfocusout={leave}>
  <button
    bind:this={opener}
    type="button"
    class="btn btn-sm w-full"
    aria-haspopup="menu"
    aria-expanded={open}
    aria-controls={id}
    aria-label={label}
    onclick={toggle}
  >
    {@render children()}
  </button>
  {#if open}
    <div
      {id}
      role="menu"
      aria-label={label}
      class="absolute z-20 mt-1 max-h-80 min-w-52 overflow-y-auto rounded-box border border-base-300 bg-base-100 py-1 shadow-lg"
    >
      {#each items as item (item.name)}
        <button
          type="button"
          role={item.checked === undefined ? "menuitem" : "menuitemradio"}
          aria-checked={item.checked}
          tabindex="-1"
          class="flex w-full items-center justify-between gap-4 px-3 py-1.5 text-left text-sm hover:bg-base-200 focus:bg-base-200 focus-visible:-outline-offset-2"
          onclick={() => {
            close();
            item.run();
          }}
        >
          <bdi class="break-words">{item.name}</bdi>
          {#if item.checked}<span aria-hidden="true">✓</span>{/if}
          {#if item.key}<kbd class="key" aria-hidden="true">{item.key}</kbd>{/if}
        </button>
      {/each}
    </div>
  {/if}
</div>
