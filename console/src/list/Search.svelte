<!-- The search: results as one types, filters that are suggested and can be taken out, and Enter for the first. -->
<script lang="ts">
  import SearchIcon from "@lucide/svelte/icons/search";
  import X from "@lucide/svelte/icons/x";
  import * as api from "../lib/api";
  import { number } from "../lib/format";
  import { wording } from "../lib/problems";
  import { parted, suggestions, tokens, without } from "../lib/query";
  import { frame, take as takeClip } from "../state/commands.svelte";
  import { keymap } from "../state/keymap.svelte";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";
  import { getList } from "./list.svelte";

  let { onquery }: { onquery: (q: string) => void } = $props();
  const list = getList();
  let field = $state<HTMLInputElement>();
  let focused = $state(false);
  let at = $state(-1);

  const stats = new Resource(api.stats, {});
  const drawers = new Resource(api.drawers, { parts: ["drawers"] });
  const suggested = $derived(
    focused
      ? suggestions(list.query, {
          apps: (stats.value?.applications ?? []).map((share) => share.name),
          drawers: (drawers.value ?? []).map((drawer) => drawer.name),
          devices: [],
        })
      : [],
  );
  const filters = $derived(tokens(list.query).filter((token) => token.kind !== "word"));
  const found = $derived.by(() => {
    if (list.misunderstood) return wording(list.misunderstood).text;
    if (!list.loaded) return "";
    if (!list.query.trim()) return w().clips.clips(list.total);
    return w().ledger.found(list.clips.length, list.more, number(list.total));
  });

  let given = frame.searchWanted;
  $effect(() => {
    if (frame.searchWanted === given) return;
    given = frame.searchWanted;
    focus();
  });

  export function focus(): void {
    field?.focus();
    field?.select();
  }

  function focusin() {
    focused = true;
    // What there is to suggest is asked for when it is first wanted.
    if (!stats.value) void stats.load();
    if (!drawers.value) void drawers.load();
  }

  function take(query: string) {
    onquery(`${query} `);
    at = -1;
    field?.focus();
  }

  function keydown(event: KeyboardEvent) {
    const [first] = list.clips;
    const picked = suggested[at];
    if (event.key === "Tab" && picked) take(picked);
    else if (
      event.key === "ArrowRight" &&
      event.currentTarget === field &&
      field?.selectionStart === list.query.length &&
      suggested[0]
    )
      take(suggested[Math.max(at, 0)] ?? suggested[0]);
    else if (event.key === "ArrowDown" && event.altKey && suggested.length > 0) at = (at + 1) % suggested.length;
    else if (event.key === "ArrowDown") list.move("first");
    else if (event.key === "Enter" && picked) take(picked);
    else if (event.key === "Enter" && first) void takeClip(first);
    else if (event.key === "Escape" && at >= 0) at = -1;
    else if (event.key === "Escape" && list.query) onquery("");
    else return;
    event.preventDefault();
  }

  const meaning = (text: string): string => {
    const { name, value } = parted(text);
    const words = name ? w().query.filters[name](value) : w().query.word(text.replace(/^-/, ""));
    return text.startsWith("-") ? w().query.not(words) : words;
  };
</script>

<div role="search" class="relative" onfocusin={focusin} onfocusout={() => (focused = false)}>
  <label class="input w-full">
    <SearchIcon size={16} class="faint" aria-hidden="true" />
    <input
      bind:this={field}
      type="text"
      role="combobox"
      class="grow"
      placeholder={w().ledger.search}
      aria-label={w().ledger.search}
      aria-describedby="found"
      aria-expanded={suggested.length > 0}
      aria-controls="suggested"
      aria-activedescendant={at >= 0 ? `suggested-${at}` : undefined}
      aria-keyshortcuts={keymap.first("search")}
      autocomplete="off"
      spellcheck="false"
      enterkeyhint="search"
      value={list.query}
      oninput={(event) => {
        at = -1;
        onquery(event.currentTarget.value);
      }}
      onkeydown={keydown}
    />
    {#if list.query}
      <button
        type="button"
        class="btn btn-ghost btn-square btn-xs"
        onclick={() => onquery("")}
        aria-label={w().ledger.clearSearch}><X size={14} aria-hidden="true" /></button
      >
    {:else}
      <kbd class="key hidden sm:inline-flex" aria-hidden="true">{keymap.first("search")}</kbd>
    {/if}
  </label>
  <ul
    id="suggested"
    role="listbox"
    aria-label={w().ledger.suggestions}
    class="absolute z-20 mt-1 w-full max-w-md rounded-box border border-base-300 bg-base-100 py-1 shadow-lg {suggested.length >
    0
      ? ''
      : 'hidden'}"
  >
    {#each suggested as query, place (query)}
      {@const last = tokens(query).at(-1)?.text ?? query}
      <!-- svelte-ignore a11y_click_events_have_key_events -->
      <li
        id="suggested-{place}"
        role="option"
        aria-selected={place === at}
        class="flex cursor-pointer justify-between gap-4 px-3 py-1 text-sm {place === at
          ? 'bg-base-200'
          : 'hover:bg-base-200'}"
        onmousedown={(event) => event.preventDefault()}
        onclick={() => take(query)}
      >
        <bdi class="font-mono">{last}</bdi><span class="faint">{meaning(last)}</span>
      </li>
    {/each}
  </ul>
</div>
<div class="mt-1 flex flex-wrap items-center gap-x-3 gap-y-1">
  <p id="found" class="text-xs {list.misunderstood ? 'text-warning' : 'faint'}" role="status">{found}</p>
  {#each filters as { text } (text)}
    <button
      type="button"
      class="flex items-center gap-1 border-b border-primary text-xs text-primary"
      aria-label={w().query.takeOut(meaning(text))}
      onclick={() => onquery(without(list.query, text))}>{meaning(text)}<X size={12} aria-hidden="true" /></button
    >
  {/each}
</div>
