<!-- The pages: a column on a desk screen, a bar at the foot of a phone. -->
<script lang="ts" module>
  import Archive from "@lucide/svelte/icons/archive";
  import BookOpen from "@lucide/svelte/icons/book-open";
  import ChartLine from "@lucide/svelte/icons/chart-line";
  import CircleQuestionMark from "@lucide/svelte/icons/circle-question-mark";
  import ListChecks from "@lucide/svelte/icons/list-checks";
  import MonitorSmartphone from "@lucide/svelte/icons/monitor-smartphone";
  import PencilLine from "@lucide/svelte/icons/pencil-line";
  import Settings from "@lucide/svelte/icons/settings";
  import Trash from "@lucide/svelte/icons/trash-2";
  import type { Component } from "svelte";
  import { isGuest } from "../lib/api";
  import type { PageName } from "../lib/router.svelte";

  /** What there is for a browser that came in by the door for a phone. */
  const FOR_GUESTS = ["ledger", "kept", "add", "settings", "help"];

  const ALL: {
    page: PageName & keyof ReturnType<typeof import("../words/index.svelte").w>["pages"];
    icon: Component;
    first?: boolean;
  }[] = [
    { page: "ledger", icon: BookOpen, first: true },
    { page: "kept", icon: Archive, first: true },
    { page: "add", icon: PencilLine, first: true },
    { page: "devices", icon: MonitorSmartphone },
    { page: "rules", icon: ListChecks },
    { page: "bin", icon: Trash },
    { page: "figures", icon: ChartLine },
    { page: "settings", icon: Settings },
    { page: "help", icon: CircleQuestionMark },
  ];

  const ENTRIES = isGuest ? ALL.filter((entry) => FOR_GUESTS.includes(entry.page)) : ALL;
</script>

<script lang="ts">
  import Ellipsis from "@lucide/svelte/icons/ellipsis";
  import { href, router } from "../lib/router.svelte";
  import { w } from "../words/index.svelte";
  import Menu from "../ui/Menu.svelte";

  const current = $derived(router.route.page);
</script>

<nav
  aria-label={w().pages.nav}
  class="nav order-last flex border-base-300 bg-base-200 max-md:border-t md:order-first md:w-44 md:shrink-0 md:flex-col md:border-r md:pt-3 lg:w-52"
>
  <p class="ledger-face hidden px-5 pb-3 text-2xl tracking-wide md:block" aria-hidden="true">Yadori</p>
  {#each ENTRIES as { page, icon: Icon, first } (page)}
    <a
      href={href({ page })}
      aria-current={current === page ? "page" : undefined}
      class="nav-entry flex items-center gap-2.5 px-5 py-2 text-sm max-md:grow max-md:flex-col max-md:gap-0.5 max-md:px-1 max-md:py-1.5 max-md:text-xs {first
        ? ''
        : 'max-md:hidden'} {current === page ? 'bg-base-100 font-semibold' : 'hover:bg-base-300/50'}"
      onclick={(event) => {
        if (event.ctrlKey || event.metaKey || event.shiftKey) return;
        event.preventDefault();
        router.go({ page });
      }}><Icon size={18} aria-hidden="true" />{w().pages[page]}</a
    >
  {/each}
  <div class="nav-more flex grow items-center justify-center md:hidden">
    <Menu
      label={w().pages.more}
      items={ENTRIES.filter((entry) => !entry.first).map(({ page }) => ({
        name: w().pages[page],
        run: () => router.go({ page }),
      }))}
      class="nav-menu"
    >
      <Ellipsis size={18} aria-hidden="true" /><span class="text-xs">{w().pages.others}</span>
    </Menu>
  </div>
</nav>
