<!-- How the history is protected: what opens it, locking it, and when it locks itself. -->
<script lang="ts">
  import * as api from "../lib/api";
  import type { Lock, LockChange, Protector } from "../lib/api";
  import { lock } from "../state/lock.svelte";
  import { run } from "../state/notices.svelte";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";
  import Amount from "../ui/Amount.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";
  import Passphrase from "../ui/Passphrase.svelte";
  import Section from "../ui/Section.svelte";
  import Toggle from "../ui/Toggle.svelte";

  type Asked =
    | { what: "passphrase" }
    | { what: "recovery" }
    | { what: "rekey" }
    | { what: "add"; kind: Protector }
    | { what: "remove"; kind: Protector };

  const stands = new Resource(api.showLock, { status: true });
  $effect(() => stands.watch());
  const is = $derived(stands.value);
  const has = (kind: Protector): boolean => is?.protectors.includes(kind) ?? false;
  const BY_ITSELF: Protector[] = ["secret-service", "key-file"];

  let asked = $state<Asked>();
  let current = $state("");
  let fresh = $state("");
  let key = $state<string>();

  async function change(change: LockChange) {
    const changed = await run(
      () => api.changeLock(change),
      () => w().lock.saved,
    );
    if (changed) stands.take(changed);
    else await stands.load();
  }

  function ask(what: Asked) {
    current = fresh = "";
    asked = what;
  }

  async function done(event: SubmitEvent) {
    event.preventDefault();
    if (!asked) return;
    const what = asked;
    const given = current || undefined;
    if (what.what === "rekey") {
      const begun = await run(api.rekey);
      if (!begun) return;
      stands.take(begun);
    } else if (what.what === "recovery") {
      const made = await run(() => api.newRecoveryKey(given));
      if (!made) return;
      key = made.key;
      await stands.load();
    } else {
      const work: Record<"passphrase" | "add" | "remove", () => Promise<Lock>> = {
        passphrase: () => api.setPassphrase(fresh, given),
        add: () => api.addProtector("kind" in what ? what.kind : "key-file", given),
        remove: () => api.removeProtector("kind" in what ? what.kind : "key-file", given),
      };
      const changed = await run(work[what.what], () => w().lock.saved);
      if (!changed) return;
      stands.take(changed);
    }
    asked = undefined;
    current = fresh = "";
  }

  const title = (what: Asked): string =>
    what.what === "passphrase"
      ? has("passphrase")
        ? w().lock.changePassphrase
        : w().lock.setPassphrase
      : what.what === "recovery"
        ? w().lock.makeRecovery
        : what.what === "rekey"
          ? w().lock.rekey
          : w().lock[what.what](w().lock.protectors[what.kind]);
</script>

<Section title={w().lock.title} about={w().lock.about}>
  {#if is && !is.encrypted}
    <p>{w().lock.plain}</p>
    <p class="faint text-sm">{is.plain_because}</p>
  {:else if is}
    {#if is.older_keys}<p role="alert" class="mb-3 text-error">{w().lock.olderKeys}</p>{/if}
    <ul class="space-y-2">
      {#each is.protectors as kind (kind)}
        <li class="flex items-center justify-between gap-4 border-b border-base-300 pb-2">
          <span class="block first-letter:uppercase"
            >{w().lock.protectors[kind]}<span class="faint block text-sm">{w().lock.protects[kind]}</span></span
          >
          {#if is.protectors.some((other) => other !== kind && (kind === "recovery" || other !== "recovery"))}<Button
              aria-label={w().lock.remove(w().lock.protectors[kind])}
              onclick={() => ask({ what: "remove", kind })}>{w().lock.removeIt}</Button
            >{/if}
        </li>
      {/each}
    </ul>
    <p class="mt-3 flex flex-wrap gap-2">
      <Button onclick={() => ask({ what: "passphrase" })}
        >{has("passphrase") ? w().lock.changePassphrase : w().lock.setPassphrase}…</Button
      >
      <Button onclick={() => ask({ what: "recovery" })}>{w().lock.makeRecovery}…</Button>
      {#each BY_ITSELF.filter((kind) => !has(kind)) as kind (kind)}<Button onclick={() => ask({ what: "add", kind })}
          >{w().lock.add(w().lock.protectors[kind])}…</Button
        >{/each}
      {#if is.encrypting == null}<Button onclick={() => ask({ what: "rekey" })}>{w().lock.rekey}…</Button>{/if}
      {#if has("passphrase")}<Button look="primary" onclick={() => lock.now()}>{w().lock.now}</Button>{/if}
    </p>
    {#if is.encrypting != null}
      {@const percent = Math.round(is.encrypting * 100)}
      <p class="mt-3">
        <progress
          class="h-2 w-full appearance-none border-0 bg-base-300 [&::-moz-progress-bar]:bg-primary [&::-webkit-progress-bar]:bg-base-300 [&::-webkit-progress-value]:bg-primary"
          value={percent}
          max="100"
          aria-label={w().lock.rekey}
        ></progress>
        <span class="faint text-sm">{w().lock.encrypting(percent)} {w().lock.meanwhile}</span>
      </p>
    {:else if is.failure}<p role="alert" class="mt-3 text-error">{w().lock.notRekeyed} {is.failure}</p>{/if}
    {#if has("passphrase")}
      <div class="mt-5 space-y-3">
        <Amount
          label={w().lock.idle}
          unit="seconds"
          value={is.idle_seconds}
          onchange={(idle_seconds) => change({ idle_seconds })}
        />
        <Toggle
          label={w().lock.withScreen}
          checked={is.with_screen}
          onchange={(with_screen) => change({ with_screen })}
        />
        <Toggle label={w().lock.withSleep} checked={is.with_sleep} onchange={(with_sleep) => change({ with_sleep })} />
        <Toggle
          label={w().lock.empty}
          checked={is.empty_clipboard}
          onchange={(empty_clipboard) => change({ empty_clipboard })}
        />
        <Toggle
          label={w().lock.seal}
          checked={is.while_locked === "seal"}
          onchange={(seal) => change({ while_locked: seal ? "seal" : "drop" })}
        />
      </div>
    {:else}<p class="faint mt-3 text-sm">{w().lock.needsPassphrase}</p>{/if}
  {/if}
</Section>

{#if asked}
  <Dialog title={title(asked)} onclose={() => (asked = undefined)}>
    <form id="lock-form" class="space-y-3" onsubmit={done}>
      {#if has("passphrase") && asked.what !== "rekey"}<Passphrase
          label={w().lock.currentPassphrase}
          bind:value={current}
        />{/if}
      {#if asked.what === "passphrase"}
        <Passphrase label={w().lock.newPassphrase} bind:value={fresh} fresh />
        <p class="faint text-sm">{w().lock.passphraseMeans}</p>
      {:else if asked.what === "recovery"}<p>{w().lock.recoveryMeans}</p>
      {:else if asked.what === "rekey"}<p>{w().lock.rekeyMeans}</p>
      {:else if asked.what === "remove"}<p>{w().lock.removeMeans}</p>
      {:else}<p>{w().lock.protects[asked.kind]}</p>{/if}
    </form>
    {#snippet actions()}<Button
        look="primary"
        type="submit"
        form="lock-form"
        disabled={asked?.what === "passphrase" && !fresh}
        >{asked?.what === "rekey" ? w().lock.rekeyNow : w().actions.save}</Button
      >{/snippet}
  </Dialog>
{/if}
{#if key}
  <Dialog title={w().lock.recoveryTitle} onclose={() => (key = undefined)}>
    <p class="rounded-sm bg-base-200 p-3 font-mono text-lg break-all select-all">{key}</p>
    <p class="mt-3">{w().lock.recoveryKeep}</p>
  </Dialog>
{/if}
