<!-- The door for a phone: its link as a QR code, what to compare, and closing it. -->
<script lang="ts">
  import { renderSVG } from "uqr";
  import * as api from "../lib/api";
  import { clock, span } from "../lib/format";
  import { run } from "../state/notices.svelte";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Section from "../ui/Section.svelte";

  const LENGTHS = [600, 3_600, 28_800];
  const door = new Resource(api.door, { status: true });
  $effect(() => door.watch());
  let seconds = $state(3_600);

  async function change(work: () => Promise<api.Door>) {
    const changed = await run(work);
    if (changed) door.take(changed);
  }
</script>

<Section title={w().phone.title} about={w().phone.about}>
  {#if !door.value?.open}
    <p class="flex flex-wrap items-center gap-2">
      <label for="door-length">{w().phone.for}</label>
      <select id="door-length" class="select select-sm w-auto" bind:value={seconds}>
        {#each LENGTHS as length (length)}<option value={length}>{span(length)}</option>{/each}
      </select>
      <Button look="primary" onclick={() => change(() => api.openDoor(seconds))}>{w().phone.open}</Button>
    </p>
  {:else}
    <div role="status" class="space-y-3">
      {#if door.value.url}
        <p>{w().phone.scan}</p>
        <img
          class="w-52 bg-white"
          src="data:image/svg+xml,{encodeURIComponent(renderSVG(door.value.url, { border: 2 }))}"
          alt={w().phone.qr}
        />
        <p class="rounded-sm bg-base-200 p-2 font-mono text-sm break-all select-all">{door.value.url}</p>
        <p class="max-w-prose">{w().phone.warning}</p>
        <p class="font-mono text-sm break-all">{door.value.fingerprint}</p>
      {:else}
        <p>{w().phone.isIn} <bdi>{door.value.browser}</bdi></p>
      {/if}
      {#if door.value.expires_at}<p class="faint text-sm">
          {w().phone.until(clock(new Date(door.value.expires_at)))}
        </p>{/if}
    </div>
    <Button class="mt-3" onclick={() => change(api.closeDoor)}>{w().phone.close}</Button>
  {/if}
</Section>
