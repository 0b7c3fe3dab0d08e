<!-- Which device clips are sent to. -->
<script lang="ts">
  import * as api from "../lib/api";
  import type { Clip } from "../lib/api";
  import { namedAll } from "../lib/clips";
  import { href } from "../lib/router.svelte";
  import { send } from "../state/commands.svelte";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";
  import Dialog from "../ui/Dialog.svelte";

  let { clips, close }: { clips: Clip[]; close: () => void } = $props();
  const sync = new Resource(api.sync, { parts: ["devices"], status: true });
  $effect(() => sync.watch());
  const others = $derived((sync.value?.devices ?? []).filter((device) => device.state !== "this-one"));

  async function to(device: string) {
    if (await send(clips, device)) close();
  }
</script>

<Dialog title={w().sendQuestion.title(namedAll(clips))} onclose={close}>
  {#if sync.value && others.length === 0}
    <p>
      {w().sendQuestion.none}
      <a class="text-primary underline" href={href({ page: "devices" })} onclick={close}>{w().sendQuestion.link}</a>
    </p>
  {/if}
  <ul class="space-y-1">
    {#each others as device (device.id ?? device.name)}
      <li>
        <button type="button" class="btn btn-sm w-full justify-between" onclick={() => to(device.name)}
          ><bdi>{device.name}</bdi><span class="faint font-normal">{w().devices.states[device.state]}</span></button
        >
      </li>
    {/each}
  </ul>
</Dialog>
