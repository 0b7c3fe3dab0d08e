<!-- The history, newest first, and what is searched in it. -->
<script lang="ts">
  import { untrack } from "svelte";
  import { noticed } from "../lib/noticed";
  import { router } from "../lib/router.svelte";
  import { add } from "../state/commands.svelte";
  import { service } from "../state/service.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Chosen from "../list/Chosen.svelte";
  import Clips from "../list/Clips.svelte";
  import { giveList } from "../list/list.svelte";
  import Search from "../list/Search.svelte";
  import CaptureSwitch from "../shell/CaptureSwitch.svelte";
  import Ribbon from "../shell/Ribbon.svelte";
  import { history } from "./lists.svelte";

  const list = giveList(history);
  let search = $state<Search>();
  let text = $state("");

  $effect(() => list.watch());
  // The address says what is searched for, and what is unfolded.
  $effect(() => {
    const { page, q, clip } = router.route;
    if (page !== "ledger") return;
    untrack(() => {
      list.search(q);
      if (clip && clip !== list.unfolded) void arrive(clip);
    });
  });
  $effect(() => {
    const clip = list.unfolded ?? "";
    if (router.route.page === "ledger" && router.route.clip !== clip) router.replace({ ...router.route, clip });
  });

  /** An address names this entry, wherever it is in the list. */
  async function arrive(clip: string) {
    if (await list.reach(clip)) list.goTo(clip);
    // Where one is by now, one stays.
    else if (router.route.page === "ledger") router.replace({ page: "clip", what: clip });
  }

  function query(q: string) {
    const route = { page: "ledger" as const, q };
    // Going back leads out of a search, not through its letters.
    if (router.route.q.trim() && q.trim()) router.replace(route);
    else router.go(route);
  }

  async function write(event: SubmitEvent) {
    event.preventDefault();
    if (text.trim() && (await add(text))) text = "";
  }
</script>

<div class="flex h-full flex-col">
  <header class="border-b border-base-300 bg-base-200 px-3 pt-2.5 pb-2 sm:px-5">
    <div class="mb-2 flex items-center gap-3">
      <h1 class="ledger-face mr-auto text-2xl" tabindex="-1" data-page-title>{w().pages.ledger}</h1>
      <CaptureSwitch />
    </div>
    <Search bind:this={search} onquery={query} />
  </header>
  {#if !list.query.trim()}<Ribbon />{/if}
  <Chosen />
  <div class="min-h-0 grow" aria-busy={list.answered !== list.query.trim()}>
    <Clips label={list.query.trim() ? w().ledger.results : w().ledger.history} onleave={() => search?.focus()}>
      {#snippet empty()}
        <div class="mx-auto max-w-xl px-6 py-14">
          {#if list.query.trim()}
            <h2 class="ledger-face text-2xl">{w().ledger.nothingFound}</h2>
            <p class="mt-3">{w().ledger.nothingFoundHint}</p>
            <p class="mt-6"><Button onclick={() => query("")}>{w().ledger.showAll}</Button></p>
          {:else}
            <h2 class="ledger-face text-2xl">{w().ledger.empty}</h2>
            <p class="mt-3">
              {service.capture?.state === "off"
                ? w().ledger.noClipboard(service.capture.reason ? noticed(service.capture.reason) : "")
                : w().ledger.emptyHint}
            </p>
            <ol class="mt-6 list-decimal space-y-2 pl-5">
              {#each w().ledger.steps as step (step)}<li>{step}</li>{/each}
            </ol>
            <form class="mt-8 flex gap-2" onsubmit={write}>
              <input
                class="input grow"
                bind:value={text}
                aria-label={w().ledger.write}
                placeholder={w().ledger.write}
                dir="auto"
              />
              <Button type="submit" small={false}>{w().actions.add}</Button>
            </form>
          {/if}
        </div>
      {/snippet}
    </Clips>
  </div>
</div>
