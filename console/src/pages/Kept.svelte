<!-- What a person keeps: the pins, and the drawers. -->
<script lang="ts">
  import ArrowDown from "@lucide/svelte/icons/arrow-down";
  import ArrowUp from "@lucide/svelte/icons/arrow-up";
  import Folder from "@lucide/svelte/icons/folder";
  import Lock from "@lucide/svelte/icons/lock";
  import LockOpen from "@lucide/svelte/icons/lock-open";
  import Pin from "@lucide/svelte/icons/pin";
  import * as api from "../lib/api";
  import { href, router } from "../lib/router.svelte";
  import { run } from "../state/notices.svelte";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import IconButton from "../ui/IconButton.svelte";
  import { moving } from "../ui/moving";
  import KeptList from "./KeptList.svelte";

  const drawers = new Resource(api.drawers, { parts: ["drawers"], clips: true });
  $effect(() => drawers.watch());
  const shown = $derived(router.route.what);
  let name = $state("");

  const place = (from: number, to: number) => {
    const drawer = drawers.value?.[from - 1];
    return drawer && run(() => api.changeDrawer(drawer.name, { at: to })).then(() => drawers.load());
  };
  const move = moving({ count: () => (api.isGuest ? 0 : (drawers.value?.length ?? 0)), move: place });

  async function make(event: SubmitEvent) {
    event.preventDefault();
    const made = name.trim();
    if (!made) return;
    if (
      !(await run(
        () => api.newDrawer(made),
        () => w().kept.made(made),
      ))
    )
      return;
    name = "";
    router.go({ page: "kept", what: made });
  }
</script>

<div class="flex h-full flex-col lg:flex-row">
  <aside
    class="shrink-0 border-base-300 px-4 pt-5 pb-3 max-lg:max-h-[40%] max-lg:overflow-y-auto max-lg:border-b lg:w-64 lg:overflow-y-auto lg:border-r"
    aria-label={w().kept.places}
  >
    <h1 class="ledger-face text-3xl" tabindex="-1" data-page-title>{w().pages.kept}</h1>
    <p id="kept-help" class="sr-only">{w().moving.help}</p>
    <ul class="mt-4 space-y-0.5">
      <li>
        <a
          class="flex items-center gap-2 rounded-sm px-2 py-1.5 text-sm {shown
            ? 'hover:bg-base-200'
            : 'bg-base-200 font-semibold'}"
          aria-current={shown ? undefined : "true"}
          href={href({ page: "kept" })}><Pin size={16} aria-hidden="true" />{w().kept.pins}</a
        >
      </li>
      {#each drawers.value ?? [] as drawer, index (drawer.name)}
        <li class="group flex items-center" use:move={index + 1}>
          <a
            class="flex min-w-0 grow items-center gap-2 rounded-sm px-2 py-1.5 text-sm {shown === drawer.name
              ? 'bg-base-200 font-semibold'
              : 'hover:bg-base-200'}"
            aria-current={shown === drawer.name ? "true" : undefined}
            aria-describedby="kept-help"
            href={href({ page: "kept", what: drawer.name })}
          >
            {#if !drawer.private}<Folder
                size={16}
                class="shrink-0"
                aria-hidden="true"
              />{:else if drawer.private.open}<LockOpen
                size={16}
                class="shrink-0"
                aria-label={w().privateDrawer.isOpen}
              />{:else}<Lock size={16} class="shrink-0" aria-label={w().privateDrawer.isClosed} />{/if}<bdi
              class="min-w-0 grow truncate">{drawer.name}</bdi
            ><span class="faint text-xs tabular-nums" aria-label={w().clips.clips(drawer.count)}>{drawer.count}</span>
          </a>{#if !api.isGuest}
            <IconButton
              icon={ArrowUp}
              size={14}
              tabindex={-1}
              class="btn-xs max-lg:hidden"
              disabled={index === 0}
              name={w().moving.up(drawer.name)}
              onclick={() => place(index + 1, index)}
            />
            <IconButton
              icon={ArrowDown}
              size={14}
              tabindex={-1}
              class="btn-xs max-lg:hidden"
              disabled={index === (drawers.value?.length ?? 0) - 1}
              name={w().moving.down(drawer.name)}
              onclick={() => place(index + 1, index + 2)}
            />{/if}
        </li>
      {/each}
    </ul>
    {#if !api.isGuest}<form class="mt-4 flex gap-2" onsubmit={make}>
        <input
          class="input input-sm min-w-0 grow"
          bind:value={name}
          maxlength="100"
          aria-label={w().drawerQuestion.fresh}
          placeholder={w().drawerQuestion.fresh}
        />
        <Button type="submit">{w().drawerQuestion.make}</Button>
      </form>{/if}
  </aside>
  <div class="min-h-0 min-w-0 grow">
    {#key shown}<KeptList drawer={shown} stands={drawers.value?.find((drawer) => drawer.name === shown)} />{/key}
  </div>
</div>
