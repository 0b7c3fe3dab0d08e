<!-- A private drawer that is closed: how much lies in it, and a way to open it. -->
<script lang="ts">
  import Lock from "@lucide/svelte/icons/lock";
  import * as api from "../lib/api";
  import { sentence } from "../lib/problems";
  import { notices } from "../state/notices.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Field from "../ui/Field.svelte";
  import Passphrase from "../ui/Passphrase.svelte";

  let { drawer }: { drawer: api.Drawer } = $props();

  /** For how many minutes it may be opened. */
  const MINUTES = [5, 15, 60, 480];

  let passphrase = $state("");
  let minutes = $state(5);
  let wrong = $state<string>();
  let opening = $state(false);

  async function open(event: SubmitEvent) {
    event.preventDefault();
    opening = true;
    wrong = undefined;
    try {
      const { left } = await api.openDrawer(drawer.name, passphrase, minutes);
      if (left > 0) notices.done(w().privateDrawer.left(left));
    } catch (error) {
      wrong = sentence(error);
    }
    passphrase = "";
    opening = false;
  }
</script>

<div class="mx-auto max-w-md px-6 py-12">
  <h3 class="ledger-face flex items-center gap-3 text-2xl">
    <Lock size={22} aria-hidden="true" />{w().privateDrawer.closed}
  </h3>
  <p class="mt-3">{w().privateDrawer.holds(drawer.count)}</p>
  {#if api.isGuest}<p class="mt-3">{w().privateDrawer.notHere}</p>{:else}
    <form class="mt-6 space-y-4" onsubmit={open}>
      <Passphrase
        label={w().privateDrawer.passphrase}
        bind:value={passphrase}
        autofocus
        wrong={wrong === undefined ? undefined : "drawer-wrong"}
      />
      <Field label={w().privateDrawer.howLong}
        >{#snippet children(id)}<select {id} class="select w-full" bind:value={minutes}>
            {#each MINUTES as some (some)}<option value={some}>{w().privateDrawer.minutes(some)}</option>{/each}
          </select>{/snippet}</Field
      >
      <p id="drawer-wrong" role="alert" class="text-error first-letter:uppercase empty:hidden">{wrong ?? ""}</p>
      <Button look="primary" small={false} type="submit" disabled={opening}
        >{opening ? w().lock.opening : w().privateDrawer.open}</Button
      >
    </form>{/if}
</div>
