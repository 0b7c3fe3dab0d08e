<!-- The frame of all pages: where one can go, the page, the tray, and what was done. -->
<script lang="ts">
  import { onMount, tick, untrack, type Component } from "svelte";
  import { isGuest } from "./lib/api";
  import { router, type PageName } from "./lib/router.svelte";
  import Ledger from "./pages/Ledger.svelte";
  import Nav from "./shell/Nav.svelte";
  import NoticeBar from "./shell/NoticeBar.svelte";
  import Glyphs from "./ui/Glyphs.svelte";
  import Questions from "./questions/Questions.svelte";
  import TrayDock from "./shell/TrayDock.svelte";
  import { addFiles, frame } from "./state/commands.svelte";
  import { chord, keymap } from "./state/keymap.svelte";
  import { listen } from "./state/live";
  import { lock } from "./state/lock.svelte";
  import Locked from "./pages/Locked.svelte";
  import { notices } from "./state/notices.svelte";
  import { service } from "./state/service.svelte";
  import { welcome } from "./state/welcome.svelte";
  import { w } from "./words/index.svelte";

  // The ledger comes with the first load; the other pages when they are first wanted.
  const PAGES: Record<Exclude<PageName, "ledger">, () => Promise<{ default: Component }>> = {
    kept: () => import("./pages/Kept.svelte"),
    add: () => import("./pages/Add.svelte"),
    devices: () => import("./pages/Devices.svelte"),
    rules: () => import("./pages/Rules.svelte"),
    bin: () => import("./pages/Bin.svelte"),
    figures: () => import("./pages/Figures.svelte"),
    settings: () => import("./pages/Settings.svelte"),
    help: () => import("./pages/Help.svelte"),
    clip: () => import("./pages/Alone.svelte"),
    welcome: () => import("./pages/Welcome.svelte"),
  };

  let Page = $state.raw<Component>(Ledger);
  let shown = $state<PageName>("ledger");
  let dropping = $state(false);
  let main = $state<HTMLElement>();

  const page = $derived(router.route.page);
  $effect(() => {
    const wanted = page;
    if (wanted === "ledger") untrack(() => void show(wanted, Ledger));
    else
      PAGES[wanted]()
        .then((module) => show(wanted, module.default))
        .catch(() => notices.wrong(new Error(w().problems.away.text)));
  });

  async function show(name: PageName, component: Component) {
    if (page !== name) return;
    const isOther = shown !== name;
    Page = component;
    shown = name;
    document.title = name === "clip" || name === "welcome" ? "Yadori" : `${w().pages[name]} · Yadori`;
    if (isOther) notices.leave();
    await tick();
    // So that a screen reader hears where one is now.
    if (isOther) main?.querySelector<HTMLElement>("[data-page-title]")?.focus({ preventScroll: true });
  }

  onMount(() => {
    const ends = [service.status.watch(), service.tray.watch()];
    listen((open) => {
      if (open && !service.live) notices.cameBack();
      service.live = open;
      if (!open) void lock.check();
    });
    if (welcome.isNew() && location.hash === "") router.replace({ page: "welcome" });
    return () => ends.forEach((end) => end());
  });

  const isTyping = (target: EventTarget | null) =>
    target instanceof HTMLElement &&
    (target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName));

  /** Keys that act wherever one is; single ones not while one types. */
  function keydown(event: KeyboardEvent) {
    if (lock.locked || event.defaultPrevented || frame.question || document.querySelector("dialog[open]")) return;
    const key = chord(event);
    const command = keymap.held(key);
    if (!command || (command.scope !== "anywhere" && command.scope !== "tray")) return;
    if (isTyping(event.target) && key.length === 1) return;
    if (command.scope === "tray" && !service.tray.value?.open) return;
    event.preventDefault();
    if (command.id === "search" && page !== "ledger") {
      router.go({});
      void tick().then(() => requestAnimationFrame(() => command.run([])));
    } else command.run(frame.list?.targets() ?? []);
  }

  /** Files that are dropped anywhere are kept. */
  function over(event: DragEvent) {
    if (!event.dataTransfer?.types.includes("Files")) return;
    event.preventDefault();
    dropping = true;
  }

  function drop(event: DragEvent) {
    dropping = false;
    const files = [...(event.dataTransfer?.files ?? [])];
    if (files.length === 0 || lock.locked) return;
    event.preventDefault();
    void addFiles(files);
  }

  /** Pictures and files that are pasted outside of any field are kept, and so is text, with its formatting if it has any. */
  function paste(event: ClipboardEvent) {
    if (lock.locked || isTyping(event.target) || event.defaultPrevented) return;
    const files = [...(event.clipboardData?.files ?? [])];
    const [text, markup] = ["text/plain", "text/html"].map((type) => event.clipboardData?.getData(type) ?? "");
    if (files.length > 0) void addFiles(files);
    else if (markup) void addFiles([new File([markup], "", { type: "text/html" })]);
    else if (text?.trim()) void addFiles([new File([text], "", { type: "text/plain" })]);
  }
</script>

<svelte:window
  onkeydown={keydown}
  ondragover={over}
  ondragleave={(event) => event.relatedTarget === null && (dropping = false)}
  ondrop={drop}
  onpaste={paste}
/>

{#if lock.locked}<Locked />{:else}
  <Glyphs />
  <a
    class="btn btn-primary btn-sm absolute top-2 left-2 z-50 -translate-y-20 focus:translate-y-0"
    href="#main"
    onclick={(event) => (event.preventDefault(), main?.focus())}>{w().pages.skip}</a
  >
  <div class="flex h-full max-md:flex-col">
    <Nav />
    <div class="flex min-h-0 min-w-0 grow flex-col bg-base-100">
      {#if !service.live}<p class="bg-warning px-3 py-1.5 text-sm text-warning-content sm:px-5" role="status">
          {w().problems.notLive}
        </p>{/if}
      <main id="main" bind:this={main} tabindex="-1" class="min-h-0 grow outline-none"><Page /></main>
      <NoticeBar />
      {#if !isGuest}<TrayDock />{/if}
    </div>
  </div>
  {#if dropping}<p
      class="pointer-events-none fixed inset-4 z-50 grid place-items-center rounded-box border-4 border-dashed border-primary bg-base-100/90 text-2xl"
    >
      {w().add.drop}
    </p>{/if}
  <Questions />
{/if}
