<!-- The search field: results as one types; Enter puts the first on the clipboard. -->
<script lang="ts">
  import SearchIcon from "@lucide/svelte/icons/search";
  import X from "@lucide/svelte/icons/x";
  import { count } from "../../lib/words";
  import { ledger } from "../../state/ledger.svelte";

  let field = $state<HTMLInputElement>();

  const found = $derived.by(() => {
    if (!ledger.loaded) return "";
    if (ledger.misunderstood) return ledger.misunderstood;
    if (!ledger.query.trim()) return count(ledger.total, "clip", "clips");
    return ledger.clips.length === 0 ? "None" : `${ledger.more ? "More than " : ""}${ledger.clips.length} of ${ledger.total.toLocaleString()}`;
  });

  export function focus(): void {
    field?.focus();
    field?.select();
  }

  function keydown(event: KeyboardEvent) {
    const [first] = ledger.clips;
    if (event.key === "ArrowDown") {
      event.preventDefault();
      ledger.move("first");
    } else if (event.key === "Enter" && first) {
      event.preventDefault();
      void ledger.recall(first);
    } else if (event.key === "Escape" && ledger.query) {
      event.preventDefault();
      clear();
    }
  }

  function clear() {
    ledger.search("");
    field?.focus();
  }
</script>

<div class="mt-2 flex items-center gap-2" role="search">
  <label class="input grow focus-within:outline-2">
    <SearchIcon size={16} class="faint" aria-hidden="true" />
    <input
      bind:this={field}
      type="text"
      role="searchbox"
      class="grow"
      placeholder="Search what you copied"
      aria-label="Search what you copied"
      aria-describedby="found"
      autocomplete="off"
      spellcheck="false"
      enterkeyhint="search"
      value={ledger.query}
      oninput={(event) => ledger.search(event.currentTarget.value)}
      onkeydown={keydown}
    />
    {#if ledger.query}
      <button class="btn btn-ghost btn-square btn-xs" onclick={clear} aria-label="Clear the search"><X size={14} /></button>
    {:else}
      <kbd class="kbd kbd-sm hidden sm:inline-flex" aria-hidden="true">Ctrl K</kbd>
    {/if}
  </label>
</div>
<p id="found" class="mt-1 text-xs {ledger.misunderstood ? 'text-warning' : 'faint'}" role="status">{found}</p>
