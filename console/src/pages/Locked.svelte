<!-- All there is while the history is locked. -->
<script lang="ts">
  import { onMount } from "svelte";
  import * as api from "../lib/api";
  import { sentence } from "../lib/problems";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Passphrase from "../ui/Passphrase.svelte";

  /** How often to look whether it is open again, in milliseconds: there is no event stream to tell. */
  const LOOK = 2_000;

  let passphrase = $state("");
  let wrong = $state<string>();
  let opening = $state(false);
  let encrypting = $state<number>();

  onMount(() => {
    document.title = `${w().lock.locked} · Yadori`;
    const timer = setInterval(async () => {
      try {
        const lock = await api.showLock();
        encrypting = lock.encrypting ?? undefined;
        if (lock.state === "open") location.reload();
      } catch {
        // It is away; it may come back.
      }
    }, LOOK);
    return () => clearInterval(timer);
  });

  async function unlock(event: SubmitEvent) {
    event.preventDefault();
    opening = true;
    wrong = undefined;
    try {
      await api.unlock(passphrase);
      location.reload();
    } catch (error) {
      wrong = sentence(error);
    }
    passphrase = "";
    opening = false;
  }
</script>

<main class="grid h-full place-items-center bg-base-100 p-6">
  <form class="w-full max-w-sm space-y-5" onsubmit={unlock}>
    <h1 class="ledger-face text-3xl">{w().lock.locked}</h1>
    <p>{encrypting === undefined ? w().lock.lockedMeans : w().lock.encrypting(Math.round(encrypting * 100))}</p>
    <Passphrase
      label={w().lock.passphraseOrKey}
      bind:value={passphrase}
      autofocus
      wrong={wrong === undefined ? undefined : "unlock-wrong"}
    />
    <p id="unlock-wrong" role="alert" class="text-error first-letter:uppercase">{wrong ?? ""}</p>
    <Button look="primary" small={false} type="submit" disabled={opening}
      >{opening ? w().lock.opening : w().lock.unlock}</Button
    >
  </form>
</main>
