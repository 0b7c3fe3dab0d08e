<!-- The pins, or one drawer: a list whose order is the person's. -->
<script lang="ts">
  import { untrack } from "svelte";
  import ArrowDown from "@lucide/svelte/icons/arrow-down";
  import ArrowUp from "@lucide/svelte/icons/arrow-up";
  import GripVertical from "@lucide/svelte/icons/grip-vertical";
  import Pencil from "@lucide/svelte/icons/pencil";
  import X from "@lucide/svelte/icons/x";
  import * as api from "../lib/api";
  import { named } from "../lib/clips";
  import { clock } from "../lib/format";
  import { router } from "../lib/router.svelte";
  import { frame, toTray } from "../state/commands.svelte";
  import { run } from "../state/notices.svelte";
  import { w } from "../words/index.svelte";
  import Chosen from "../list/Chosen.svelte";
  import Clips from "../list/Clips.svelte";
  import { giveList, type Row } from "../list/list.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";
  import Field from "../ui/Field.svelte";
  import IconButton from "../ui/IconButton.svelte";
  import Passphrase from "../ui/Passphrase.svelte";
  import Menu from "../ui/Menu.svelte";
  import { moving } from "../ui/moving";
  import ClosedDrawer from "./ClosedDrawer.svelte";
  import { drawer as drawerList, pinned } from "./lists.svelte";

  let { drawer, stands }: { drawer: string; stands?: api.Drawer | undefined } = $props();
  const closed = $derived(stands?.private?.open === false);
  const list = giveList(untrack(() => (drawer ? drawerList(drawer) : pinned())));
  $effect(() => list.watch());

  let asked = $state<{ what: "rename" | "heading"; place?: number; words: string }>();
  let passphrase = $state<string>();
  let erasing = $state(false);

  async function setPassphrase(event: SubmitEvent) {
    event.preventDefault();
    const given = passphrase;
    if (!given) return;
    const done = await run(
      () => api.setDrawerPassphrase(drawer, given),
      () => w().privateDrawer.made(drawer),
    );
    if (done) passphrase = undefined;
  }

  async function erase() {
    const done = await list.farewell(() =>
      run(
        () => api.eraseDrawer(drawer),
        () => w().privateDrawer.erased(drawer),
      ),
    );
    if (!done) return;
    erasing = false;
    router.replace({ page: "kept" });
  }

  async function place(from: number, to: number) {
    if (to < 1 || to > list.rows.length) return;
    const clip = list.rows.find((row) => row.kind === "entry" && row.place === from);
    if (drawer) await run(() => api.moveInDrawer(drawer, from, to));
    else if (clip?.kind === "entry") await run(() => api.pin([clip.clip.id], to));
    await list.load();
    if (clip?.kind === "entry" && list.active === clip.clip.id) list.focusWanted += 1;
  }
  const move = moving({ count: () => list.rows.length, move: place });

  function key(chord: string): (() => unknown) | undefined {
    const row = list.rows.find((row) => row.key === list.active);
    if (row?.kind !== "entry" || api.isGuest) return undefined;
    if (chord === "Alt+ArrowUp") return () => place(row.place, row.place - 1);
    if (chord === "Alt+ArrowDown") return () => place(row.place, row.place + 1);
    return undefined;
  }

  async function save(event: SubmitEvent) {
    event.preventDefault();
    if (!asked) return;
    const { what, place, words } = asked;
    if (what === "rename" && words.trim() === drawer) return void (asked = undefined);
    const done =
      what === "rename"
        ? await list.farewell(() =>
            run(
              () => api.changeDrawer(drawer, { name: words }),
              () => w().kept.renamed(words),
            ),
          )
        : await run(() => api.heading(drawer, { words, ...(place ? { instead_of: place } : {}) }));
    if (!done) return;
    asked = undefined;
    if (what === "rename") router.replace({ page: "kept", what: words.trim() });
  }

  async function removeDrawer() {
    const done = await list.farewell(() =>
      run(
        () => api.removeDrawer(drawer),
        () => w().kept.removed(drawer),
      ),
    );
    if (done) router.replace({ page: "kept" });
  }

  const setting = $derived({
    name: stands?.private ? w().privateDrawer.change : w().privateDrawer.make,
    run: () => (passphrase = ""),
  });
  const erasure = $derived({ name: w().privateDrawer.erase, run: () => (erasing = true) });
  const menu = $derived([
    { name: w().kept.rename, run: () => (asked = { what: "rename", words: drawer }) },
    ...(closed
      ? [erasure]
      : [
          { name: w().kept.addHeading, run: () => (asked = { what: "heading", words: "" }) },
          ...(["name", "age", "use"] as const).map((by) => ({
            name: w().kept.sorts[by],
            run: () =>
              run(
                () => api.sortDrawer(drawer, by),
                () => w().kept.sorted,
              ),
          })),
          { name: w().kept.pour, run: () => (frame.question = { kind: "pour", drawer }) },
          { name: w().kept.allIntoTray, run: () => toTray(list.clips) },
          setting,
          ...(stands?.private
            ? [
                {
                  name: w().privateDrawer.unmake,
                  run: () =>
                    run(
                      () => api.removeDrawerPassphrase(drawer),
                      () => w().privateDrawer.unmade(drawer),
                    ),
                },
                erasure,
              ]
            : []),
          { name: w().kept.remove, run: removeDrawer },
        ]),
  ]);
</script>

{#snippet mover(row: Row & { place: number }, name: string)}
  {#if !api.isGuest}
    <span class="faint hidden cursor-grab p-1 lg:block" use:move={row.place} title={w().moving.drag}
      ><GripVertical size={15} aria-hidden="true" /></span
    >
    <IconButton
      icon={ArrowUp}
      size={14}
      tabindex={-1}
      class="btn-xs"
      disabled={row.place === 1}
      name={w().moving.up(name)}
      onclick={() => place(row.place, row.place - 1)}
    />
    <IconButton
      icon={ArrowDown}
      size={14}
      tabindex={-1}
      class="btn-xs"
      disabled={row.place === list.rows.length}
      name={w().moving.down(name)}
      onclick={() => place(row.place, row.place + 1)}
    />
  {/if}
{/snippet}

<div class="flex h-full flex-col">
  <div class="flex flex-wrap items-center gap-3 border-b border-base-300 px-4 py-3 sm:px-5">
    <h2 class="ledger-face min-w-0 grow truncate text-2xl"><bdi>{drawer || w().kept.pins}</bdi></h2>
    <p class="faint text-sm" role="status">
      {closed || !list.loaded
        ? ""
        : [
            w().clips.clips(list.clips.length),
            ...(stands?.private?.closes_at
              ? [w().privateDrawer.closesAt(clock(new Date(stands.private.closes_at)))]
              : []),
          ].join(" · ")}
    </p>
    {#if stands?.private?.open && !api.isGuest}<Button
        onclick={() =>
          run(
            () => api.closeDrawer(drawer),
            () => w().privateDrawer.closedNow(drawer),
          )}>{w().privateDrawer.close}</Button
      >{/if}
    {#if api.isGuest}<!-- Read only. -->{:else if drawer}<Menu label={w().kept.drawerMenu(drawer)} items={menu}
        >{w().kept.drawerDo}</Menu
      >
    {:else}<Button disabled={list.clips.length === 0} onclick={() => toTray(list.clips)}>{w().kept.allIntoTray}</Button
      >{/if}
  </div>
  {#if closed && stands}<ClosedDrawer drawer={stands} />{:else}
    <Chosen />
    <div class="min-h-0 grow">
      <Clips label={drawer || w().kept.pins} onkey={key}>
        {#snippet beside(row)}{@render mover(row, named(row.clip))}{/snippet}
        {#snippet headingActions(row)}
          {#if !api.isGuest}<span class="flex items-center">
              <IconButton
                icon={Pencil}
                size={14}
                class="btn-xs"
                name={w().kept.changeHeading(row.words)}
                onclick={() => (asked = { what: "heading", place: row.place, words: row.words })}
              />
              <IconButton
                icon={X}
                size={14}
                class="btn-xs"
                name={w().kept.removeHeading(row.words)}
                onclick={() => run(() => api.heading(drawer, { words: "", instead_of: row.place }))}
              />
              {@render mover(row, row.words)}
            </span>{/if}
        {/snippet}
        {#snippet empty()}
          <div class="mx-auto max-w-xl px-6 py-14">
            <h3 class="ledger-face text-2xl">{drawer ? w().kept.emptyDrawer : w().kept.noPins}</h3>
            <p class="mt-3">{drawer ? w().kept.emptyDrawerHint : w().kept.noPinsHint}</p>
          </div>
        {/snippet}
      </Clips>
    </div>
  {/if}
</div>

{#if asked}
  <Dialog
    title={asked.what === "rename"
      ? w().kept.rename
      : asked.place
        ? w().kept.changeHeading(asked.words)
        : w().kept.addHeading}
    onclose={() => (asked = undefined)}
  >
    <form id="kept-form" onsubmit={save}>
      <Field label={asked.what === "rename" ? w().kept.newName : w().kept.heading}
        >{#snippet children(id)}<input
            {id}
            class="input w-full"
            bind:value={asked!.words}
            maxlength={asked!.what === "rename" ? 100 : 200}
            required
            dir="auto"
          />{/snippet}</Field
      >
    </form>
    {#snippet actions()}<Button look="primary" type="submit" form="kept-form">{w().actions.save}</Button>{/snippet}
  </Dialog>
{/if}
{#if passphrase !== undefined}
  <Dialog title={w().privateDrawer.title(drawer)} onclose={() => (passphrase = undefined)}>
    <form id="private-form" class="space-y-3" onsubmit={setPassphrase}>
      <Passphrase label={w().lock.newPassphrase} bind:value={passphrase} fresh />
      {#if !stands?.private}<p>{w().privateDrawer.means}</p>{/if}
      <p class="font-semibold">{w().privateDrawer.noWayBack}</p>
    </form>
    {#snippet actions()}<Button look="primary" type="submit" form="private-form" disabled={!passphrase}
        >{w().actions.save}</Button
      >{/snippet}
  </Dialog>
{/if}
{#if erasing}
  <Dialog title={w().privateDrawer.eraseTitle(drawer)} onclose={() => (erasing = false)}>
    <p>{w().privateDrawer.eraseMeans(stands?.count ?? 0)}</p>
    {#snippet actions()}<Button look="warning" onclick={erase}>{w().privateDrawer.eraseNow}</Button>{/snippet}
  </Dialog>
{/if}
