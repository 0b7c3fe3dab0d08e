<script lang="ts">
  import { onMount } from "svelte";
  import Help from "./components/Help/Help.svelte";
  import Ledger from "./components/Ledger/Ledger.svelte";
  import NoticeBar from "./components/Notice/NoticeBar.svelte";
  import TopBar from "./components/TopBar/TopBar.svelte";
  import { follow } from "./lib/stream";
  import { ledger } from "./state/ledger.svelte";
  import { service } from "./state/status.svelte";

  let help = $state<Help>();
  let bar = $state<TopBar>();

  onMount(() => {
    void ledger.load();
    void service.load();
    follow((told) => {
      if (told.kind === "clip") ledger.apply(told.change);
      else if (told.kind === "status") void service.load();
      else if (told.kind === "reload") void ledger.load();
      else service.live = told.open;
    });
  });

  function keydown(event: KeyboardEvent) {
    if ((event.ctrlKey || event.metaKey) && event.key === "k") {
      event.preventDefault();
      bar?.focusSearch();
    }
  }
</script>

<svelte:window onkeydown={keydown} />

<div class="mx-auto flex h-full max-w-5xl flex-col bg-base-100 sm:border-x sm:border-base-300">
  <TopBar bind:this={bar} onhelp={() => help?.open()} />
  <main class="min-h-0 grow">
    <Ledger onsearch={() => bar?.focusSearch()} onhelp={() => help?.open()} />
  </main>
  <NoticeBar />
</div>
<Help bind:this={help} />
