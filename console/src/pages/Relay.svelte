<!-- The relay, where devices that do not meet leave what they tell each other. -->
<script lang="ts">
  import * as api from "../lib/api";
  import { relative, size } from "../lib/format";
  import { noticed } from "../lib/noticed";
  import { run } from "../state/notices.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";
  import Field from "../ui/Field.svelte";
  import Section from "../ui/Section.svelte";

  let { relay: is, changed }: { relay: api.Relay | undefined; changed: () => Promise<unknown> } = $props();

  // What the mailbox holds, the relay itself is asked.
  let mailbox = $state<api.Mailbox>();
  const address = $derived(is?.address);
  $effect(() => {
    mailbox = undefined;
    if (address)
      void api.relay().then(
        (asked) => (mailbox = asked.mailbox ?? undefined),
        () => undefined,
      );
  });

  let invitation = $state("");
  let setting = $state(false);
  let leaving = $state(false);

  async function set(event: SubmitEvent) {
    event.preventDefault();
    setting = true;
    const done = await run(
      () => api.setRelay(invitation.trim()),
      () => w().relay.isSet,
    );
    setting = false;
    if (!done) return;
    invitation = "";
    await changed();
  }

  async function leave() {
    leaving = false;
    await run(api.leaveRelay, ({ erased }) => w().relay.left(erased));
    await changed();
  }
</script>

<Section title={w().relay.title} about={w().relay.about}>
  {#if is}
    <p class="font-mono break-all">{is.address}</p>
    <p class="mt-1 text-sm {is.error ? 'text-warning' : ''}" role="status">
      {is.error ? w().relay.fails(noticed(is.error)) : is.answers ? w().relay.answers : w().relay.asked}
    </p>
    {#if is.warning}<p class="mt-1 text-sm text-warning" role="note">{w().relay.warns(is.warnings, is.warning)}</p>{/if}
    <p class="faint mt-1 text-sm">
      {[
        is.posted_at ? w().relay.posted(relative(new Date(is.posted_at)), is.waiting) : "",
        is.behind > 0 ? w().relay.behind(is.behind) : "",
        is.fetched_at ? w().relay.fetched(relative(new Date(is.fetched_at))) : "",
        mailbox ? w().relay.holds(size(mailbox.bytes), size(mailbox.quota_bytes), mailbox.days) : "",
      ]
        .filter(Boolean)
        .join(" ")}
    </p>
    <Button class="mt-3" onclick={() => (leaving = true)}>{w().relay.leave}</Button>
  {:else}
    <form class="flex max-w-xl items-end gap-2" onsubmit={set}>
      <div class="min-w-0 grow">
        <Field label={w().relay.invitation}
          >{#snippet children(id)}<input
              {id}
              class="input w-full"
              bind:value={invitation}
              required
              maxlength="500"
              autocapitalize="off"
              autocomplete="off"
              spellcheck="false"
            />{/snippet}</Field
        >
      </div>
      <Button look="primary" small={false} type="submit" disabled={setting}>{w().relay.use}</Button>
    </form>
  {/if}
</Section>

{#if leaving}
  <Dialog title={w().relay.leave} onclose={() => (leaving = false)}>
    <p>{w().relay.leaveMeans}</p>
    {#snippet actions()}<Button look="warning" onclick={leave}>{w().relay.leave}</Button>{/snippet}
  </Dialog>
{/if}
