<!-- The head of the page: what this is, how capture stands, and the search. -->
<script lang="ts">
  import CircleQuestionMark from "@lucide/svelte/icons/circle-question-mark";
  import Moon from "@lucide/svelte/icons/moon";
  import Sun from "@lucide/svelte/icons/sun";
  import SunMoon from "@lucide/svelte/icons/sun-moon";
  import { theme } from "../../state/theme.svelte";
  import CaptureSwitch from "./CaptureSwitch.svelte";
  import Search from "./Search.svelte";

  let { onhelp }: { onhelp: () => void } = $props();
  let search = $state<Search>();

  const names = { system: "as the system", paper: "paper", night: "night" } as const;

  export function focusSearch(): void {
    search?.focus();
  }
</script>

<header class="border-b border-base-300 bg-base-200 px-3 pt-2 pb-3 sm:px-5">
  <div class="flex items-center gap-2">
    <h1 class="ledger-face mr-auto text-2xl tracking-wide">Yadori</h1>
    <CaptureSwitch />
    <button class="btn btn-ghost btn-square btn-sm" onclick={() => theme.next()} aria-label="Theme: {names[theme.chosen]}. Change" title="Theme: {names[theme.chosen]}">
      {#if theme.chosen === "paper"}<Sun size={18} />{:else if theme.chosen === "night"}<Moon size={18} />{:else}<SunMoon size={18} />{/if}
    </button>
    <button class="btn btn-ghost btn-square btn-sm" onclick={onhelp} aria-label="Keys and search words" title="Keys and search words">
      <CircleQuestionMark size={18} />
    </button>
  </div>
  <Search bind:this={search} />
</header>
