<!-- What can be done with the entries that are chosen together. -->
<script lang="ts">
  import { exportOf, isGuest } from "../lib/api";
  import { frame, pin, recall, remove, toTray } from "../state/commands.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import { getList } from "./list.svelte";

  const list = getList();
  const clips = $derived(list.targets());
</script>

{#if list.chosen.size > 0}
  <div
    class="flex flex-wrap items-center gap-2 border-b border-base-300 bg-accent/30 px-3 py-2 sm:px-5"
    role="toolbar"
    aria-label={w().chosen.toolbar}
  >
    <p class="mr-1 text-sm font-semibold" role="status">{w().chosen.count(list.chosen.size)}</p>
    <Button look="primary" command="recall" onclick={() => recall(clips)}
      >{clips.length > 1 ? w().chosen.join : w().entry.recall}</Button
    >
    {#if clips.length > 1 && !isGuest}<Button onclick={() => (frame.question = { kind: "pour", clips })}
        >{w().chosen.joinWith}</Button
      >{/if}
    <Button command="pin" onclick={() => pin(clips)}
      >{clips.every((clip) => clip.pinned) ? w().entry.unpin : w().entry.pin}</Button
    >
    <Button command="drawer" onclick={() => (frame.question = { kind: "drawer", clips })}>{w().chosen.drawer}</Button>
    <Button command="toTray" onclick={() => toTray(clips)}>{w().entry.toTray}</Button>
    <Button command="send" onclick={() => (frame.question = { kind: "send", clips })}>{w().chosen.send}</Button>
    {#if clips.length <= 200 && !isGuest}<a class="btn btn-sm" href={exportOf(clips.map((clip) => clip.id))} download
        >{w().chosen.export}</a
      >{/if}
    <Button command="delete" onclick={() => remove(clips)}>{w().entry.delete}</Button>
    <Button look="quiet" onclick={() => list.chooseNone()}>{w().chosen.none}</Button>
  </div>
{/if}
