<!-- A clip's text, to be changed. What was typed outlives a service that is away: the dialog stays until it is saved. -->
<script lang="ts">
  import { onMount } from "svelte";
  import * as api from "../lib/api";
  import { content, type Clip } from "../lib/api";
  import { named } from "../lib/clips";
  import { frame } from "../state/commands.svelte";
  import { run } from "../state/notices.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";

  let { clip, close }: { clip: Clip; close: () => void } = $props();
  let before = $state<string>();
  let text = $state("");

  onMount(async () => {
    before = await run(async () => {
      const detail = await api.show(clip.id);
      if (detail.text_is_whole) return detail.text ?? "";
      return (await content(clip.id, "text/plain;charset=utf-8")).text();
    });
    text = before ?? "";
  });

  async function save() {
    const done = await run(
      () => api.edit(clip.id, text),
      ({ clip: edited, changed, old_stays }) =>
        changed ? w().done.edited(named(edited), old_stays) : w().done.unchanged,
    );
    if (!done) return;
    close();
    frame.list?.goTo(done.clip.id);
  }
</script>

<Dialog title={w().editQuestion.title(named(clip))} wide onclose={close}>
  {#if before === undefined}
    <p role="status">{w().entry.loading}</p>
  {:else}
    <textarea
      class="textarea h-80 w-full font-mono text-sm"
      aria-label={w().editQuestion.text}
      bind:value={text}
      dir="auto"
      spellcheck="false"></textarea>
    <p class="faint mt-1 text-sm">{w().editQuestion.about}</p>
    {#if text !== before}
      <details class="mt-3">
        <summary class="cursor-pointer text-sm font-semibold">{w().reshapeQuestion.before}</summary>
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <pre
          class="mt-1 max-h-48 overflow-auto rounded-sm border border-base-300 p-2 font-mono text-sm break-words whitespace-pre-wrap"
          dir="auto"
          tabindex="0">{before}</pre>
      </details>
    {/if}
  {/if}
  {#snippet actions()}<Button look="primary" disabled={before === undefined || text === before} onclick={save}
      >{w().actions.save}</Button
    >{/snippet}
</Dialog>
