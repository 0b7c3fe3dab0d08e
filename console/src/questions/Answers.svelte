<!-- What a clip with placeholders asks before it is put on the clipboard. -->
<script lang="ts">
  import { untrack } from "svelte";
  import type { Recall } from "../lib/api";
  import { frame, recall } from "../state/commands.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";
  import Field from "../ui/Field.svelte";

  let { asks, usual, body, close }: { asks: string[]; usual: Record<string, string>; body: Recall; close: () => void } =
    $props();
  const answers = $state<Record<string, string>>(
    untrack(() => Object.fromEntries(asks.map((name) => [name, usual[name] ?? ""]))),
  );

  async function put(event: SubmitEvent) {
    event.preventDefault();
    const clips = (frame.list?.clips ?? []).filter((clip) => body.clips.includes(clip.id));
    const { clips: _, ...how } = body;
    if (await recall(clips, { ...how, answers: $state.snapshot(answers) })) close();
  }
</script>

<Dialog title={w().answersQuestion.title} onclose={close}>
  <form id="answers-form" class="space-y-4" onsubmit={put}>
    {#each asks as name (name)}
      <Field label={name}
        >{#snippet children(id)}<input
            {id}
            class="input w-full"
            bind:value={answers[name]}
            dir="auto"
          />{/snippet}</Field
      >
    {/each}
  </form>
  {#snippet actions()}<Button look="primary" type="submit" form="answers-form">{w().entry.recall}</Button>{/snippet}
</Dialog>
