<!-- Which drawer clips go into: one that is there, or a new one. -->
<script lang="ts">
  import * as api from "../lib/api";
  import type { Clip } from "../lib/api";
  import { namedAll } from "../lib/clips";
  import { intoDrawer, outOfDrawer } from "../state/commands.svelte";
  import { run } from "../state/notices.svelte";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";
  import Field from "../ui/Field.svelte";

  let { clips, close }: { clips: Clip[]; close: () => void } = $props();
  const drawers = new Resource(api.drawers, { parts: ["drawers"] });
  $effect(() => drawers.watch());
  let name = $state("");

  async function into(drawer: string) {
    if (await intoDrawer(clips, drawer)) close();
  }

  async function make(event: SubmitEvent) {
    event.preventDefault();
    if (name.trim() && (await run(() => api.newDrawer(name.trim())))) await into(name.trim());
  }

  async function out() {
    if (await outOfDrawer(clips)) close();
  }
</script>

<Dialog title={w().drawerQuestion.title(namedAll(clips))} onclose={close}>
  <ul class="space-y-1" aria-label={w().drawerQuestion.drawers}>
    {#each drawers.value ?? [] as drawer (drawer.name)}
      <li>
        <button
          type="button"
          class="btn btn-sm w-full justify-between"
          disabled={drawer.private?.open === false}
          onclick={() => into(drawer.name)}
          ><bdi class="truncate">{drawer.name}</bdi><span class="faint font-normal"
            >{drawer.private?.open === false ? w().privateDrawer.isClosed : w().clips.clips(drawer.count)}</span
          ></button
        >
      </li>
    {/each}
  </ul>
  {#if clips.every((clip) => clip.drawer)}<Button class="mt-3" onclick={out}>{w().drawerQuestion.out}</Button>{/if}
  <form class="mt-5 flex items-end gap-2" onsubmit={make}>
    <div class="grow">
      <Field label={w().drawerQuestion.fresh}
        >{#snippet children(id)}<input
            {id}
            class="input input-sm w-full"
            bind:value={name}
            maxlength="100"
          />{/snippet}</Field
      >
    </div>
    <Button type="submit">{w().drawerQuestion.make}</Button>
  </form>
</Dialog>
