<!-- The person's own devices: linking them, how they stand, what they share. -->
<script lang="ts">
  import { renderSVG } from "uqr";
  import * as api from "../lib/api";
  import type { Device, Invitation } from "../lib/api";
  import { clock, relative, whole } from "../lib/format";
  import { noticed } from "../lib/noticed";
  import { run } from "../state/notices.svelte";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";
  import Field from "../ui/Field.svelte";
  import Page from "../ui/Page.svelte";
  import Section from "../ui/Section.svelte";
  import Relay from "./Relay.svelte";
  import Sharing from "./Sharing.svelte";

  const sync = new Resource(api.sync, { parts: ["devices"], status: true });
  $effect(() => sync.watch());
  const devices = $derived(sync.value?.devices ?? []);
  const others = $derived(devices.filter((device) => device.state !== "this-one"));

  let invitation = $state<Invitation>();
  let address = $state("");
  let code = $state("");
  let joining = $state(false);
  let renaming = $state<{ device: Device; name: string }>();
  let removing = $state<Device>();
  let leaving = $state(false);

  const invite = async (via?: "relay") => (invitation = await run(() => api.invite(via)));
  /** The command for the other device. A URL has a mark that a shell may take for something else. */
  const command = ({ addresses: [address = ""], code }: Invitation): string =>
    `yadori device join ${address.includes("#") ? `'${address}'` : address} ${code}`;
  const qr = (invited: Invitation): string =>
    `data:image/svg+xml,${encodeURIComponent(renderSVG(command(invited), { border: 2 }))}`;

  // The other device has joined: the code has done its work.
  let linked = 0;
  $effect(() => {
    if (invitation && others.length > linked) invitation = undefined;
    linked = others.length;
  });

  async function join(event: SubmitEvent) {
    event.preventDefault();
    joining = true;
    const device = await run(
      () => api.join(address.trim(), code.trim()),
      (joined) => w().devices.joined(joined.name),
    );
    joining = false;
    if (!device) return;
    address = code = "";
    await sync.load();
  }

  async function rename(event: SubmitEvent) {
    event.preventDefault();
    const asked = renaming;
    if (asked && (await run(() => api.renameDevice(asked.device.name, asked.name.trim())))) renaming = undefined;
    await sync.load();
  }

  async function remove(device: Device) {
    removing = undefined;
    await run(
      () => api.removeDevice(device.name),
      () => w().devices.removed(device.name),
    );
    await sync.load();
  }

  async function leave() {
    leaving = false;
    await run(api.leave, () => w().devices.left);
    await sync.load();
  }

  const lag = (device: Device): string => {
    const words = w().devices;
    if (device.state === "this-one") return "";
    if (device.ahead === 0 && device.behind === 0) return words.same;
    return [device.behind > 0 && words.behind(device.behind), device.ahead > 0 && words.ahead(device.ahead)]
      .filter(Boolean)
      .join(" ");
  };
</script>

<Page title={w().pages.devices} about={w().devices.about}>
  {#snippet actions()}
    {#if others.length > 0}
      <Button onclick={() => run(api.syncNow, () => w().devices.syncing)}>{w().devices.syncNow}</Button>
      {#if sync.value?.paused}<Button look="primary" onclick={() => run(api.resumeSync)}>{w().devices.resume}</Button
        >{:else}<Button onclick={() => run(api.pauseSync)}>{w().devices.pause}</Button>{/if}
    {/if}
  {/snippet}
  {#if sync.value?.paused}<p class="font-semibold text-warning" role="status">
      {w().devices.isPaused(sync.value.paused_until ? clock(new Date(sync.value.paused_until)) : undefined)}
    </p>{/if}
  <ul class="grid gap-4 sm:grid-cols-2">
    {#each devices as device (device.id ?? device.name)}
      <li class="rounded-box border border-base-300 p-4">
        <div class="flex items-center gap-3">
          <!-- A line that is whole, or broken. -->
          <svg
            viewBox="0 0 {device.state === 'this-one' ? 16 : 60} 20"
            class="h-5 shrink-0 {device.state === 'away' ? 'text-warning' : 'text-success'}"
            aria-hidden="true"
          >
            <rect x="1" y="3" width="14" height="14" rx="2" fill="none" stroke="currentColor" stroke-width="2" />
            {#if device.state !== "this-one"}
              <path
                d={device.state === "connected" ? "M16 10H44" : "M16 10H25M35 10H44"}
                stroke="currentColor"
                stroke-width="2"
              />
              <rect x="45" y="3" width="14" height="14" rx="2" fill="none" stroke="currentColor" stroke-width="2" />
            {/if}
          </svg>
          <h2 class="ledger-face min-w-0 truncate text-xl"><bdi>{device.name}</bdi></h2>
        </div>
        <p class="mt-1 text-sm">
          {w().devices.stands(
            w().devices.states[device.state],
            device.state === "away" && device.seen_at
              ? w().devices.seen(relative(new Date(device.seen_at)))
              : undefined,
            lag(device),
          )}
        </p>
        {#each device.notes as note (note.kind)}<p class="mt-1 text-sm text-warning" role="note">
            {noticed(note)}
          </p>{/each}
        <dl class="faint mt-2 grid grid-cols-[max-content_1fr] gap-x-3 text-sm">
          {#if device.fingerprint}<dt>{w().devices.fingerprint}</dt>
            <dd class="font-mono">{device.fingerprint}</dd>{/if}
          {#if device.addresses.length > 0}<dt>{w().devices.address}</dt>
            <dd class="font-mono break-all">{device.addresses.join(", ")}</dd>{/if}
          {#if device.introduced_by}<dt>{w().devices.introducedBy}</dt>
            <dd><bdi>{device.introduced_by}</bdi></dd>{/if}
          {#if device.seen_at && device.state !== "this-one"}<dt>{w().devices.seenAt}</dt>
            <dd>{whole(new Date(device.seen_at))}</dd>{/if}
        </dl>
        <div class="mt-3 flex gap-2">
          {#if device.id}<Button
              aria-label={w().devices.renameIt(device.name)}
              onclick={() => (renaming = { device, name: device.name })}>{w().devices.rename}</Button
            >{/if}
          {#if device.state !== "this-one"}<Button
              aria-label={w().devices.removeIt(device.name)}
              onclick={() => (removing = device)}>{w().devices.remove}</Button
            >{/if}
        </div>
      </li>
    {/each}
  </ul>
  <div class="grid gap-8 md:grid-cols-2">
    <Section title={w().devices.invite} about={w().devices.inviteAbout}>
      {#if invitation}
        <div role="status">
          <p class="font-mono text-2xl tracking-wider break-all select-all">{invitation.code}</p>
          <p class="mt-1 text-sm">{w().devices.until(clock(new Date(invitation.expires_at)))}</p>
          <p class="mt-3 text-sm">{w().devices.onTheOther}</p>
          <p class="mt-1 rounded-sm bg-base-200 p-2 font-mono text-sm break-all select-all">
            {command(invitation)}
          </p>
          <img class="mt-3 w-44 bg-white" src={qr(invitation)} alt={w().devices.qr} />
        </div>
      {:else}
        <div class="flex flex-wrap gap-2">
          <Button look="primary" onclick={() => invite()}>{w().devices.makeCode}</Button>
          {#if sync.value?.relay}<Button onclick={() => invite("relay")}>{w().devices.makeCodeByRelay}</Button>{/if}
        </div>
      {/if}
    </Section>
    <Section title={w().devices.join} about={w().devices.joinAbout}>
      <form class="space-y-3" onsubmit={join}>
        <Field label={w().devices.theirAddress} help={w().devices.theirAddressHelp}
          >{#snippet children(id, help)}<input
              {id}
              class="input w-full"
              bind:value={address}
              required
              aria-describedby={help}
              autocapitalize="off"
              spellcheck="false"
            />{/snippet}</Field
        >
        <Field label={w().devices.theirCode}
          >{#snippet children(id)}<input
              {id}
              class="input w-full"
              bind:value={code}
              required
              autocapitalize="off"
              autocomplete="off"
              spellcheck="false"
            />{/snippet}</Field
        >
        <Button look="primary" type="submit" disabled={joining}
          >{joining ? w().devices.joining : w().devices.joinIt}</Button
        >
      </form>
    </Section>
  </div>
  <Sharing />
  {#if sync.value}<Relay relay={sync.value.relay ?? undefined} changed={() => sync.load()} />{/if}
  {#if others.length > 0}<Section title={w().devices.leave} about={w().devices.leaveMeans}
      ><Button onclick={() => (leaving = true)}>{w().devices.leave}</Button></Section
    >{/if}
</Page>

{#if renaming}
  <Dialog title={w().devices.renameIt(renaming.device.name)} onclose={() => (renaming = undefined)}>
    <form id="rename" onsubmit={rename}>
      <Field label={w().devices.name}
        >{#snippet children(id)}<input
            {id}
            class="input w-full"
            bind:value={renaming!.name}
            required
            maxlength="60"
          />{/snippet}</Field
      >
    </form>
    {#snippet actions()}<Button look="primary" type="submit" form="rename">{w().actions.save}</Button>{/snippet}
  </Dialog>
{/if}
{#if removing}
  {@const device = removing}
  <Dialog title={w().devices.removeIt(device.name)} onclose={() => (removing = undefined)}>
    <p>{w().devices.removeMeans(device.name)}</p>
    {#snippet actions()}<Button look="warning" onclick={() => remove(device)}>{w().devices.remove}</Button>{/snippet}
  </Dialog>
{/if}
{#if leaving}
  <Dialog title={w().devices.leave} onclose={() => (leaving = false)}>
    <p>{w().devices.leaveMeans}</p>
    {#snippet actions()}<Button look="warning" onclick={leave}>{w().devices.leave}</Button>{/snippet}
  </Dialog>
{/if}
