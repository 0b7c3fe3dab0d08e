<!-- What a clip is called and marked with: title, alias, mark, whether its placeholders are filled in. -->
<script lang="ts">
  import { untrack } from "svelte";
  import * as api from "../lib/api";
  import type { Clip, Colour } from "../lib/api";
  import { named } from "../lib/clips";
  import { run } from "../state/notices.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";
  import Field from "../ui/Field.svelte";

  let { clip, close }: { clip: Clip; close: () => void } = $props();
  const COLOURS: (Colour | "none")[] = ["none", "amber", "brick", "fern", "lagoon", "plum", "slate"];
  const before = untrack(() => clip);
  let title = $state(before.title ?? "");
  let alias = $state(before.alias ?? "");
  let mark = $state<Colour | "none">(before.mark ?? "none");
  let fills = $state(before.fills);
  let taken = $state(false);

  async function save(event: SubmitEvent) {
    event.preventDefault();
    const body: api.Attributes = {
      ...(title !== (before.title ?? "") ? { title } : {}),
      ...(alias !== (before.alias ?? "") ? { alias, take_alias: taken } : {}),
      ...(mark !== (before.mark ?? "none") ? { mark } : {}),
      ...(fills !== before.fills ? { fills } : {}),
    };
    const done = await run(
      () => api.change(clip.id, body),
      (changed) => w().done.labelled(named(changed)),
      (error) => {
        // The first time it is said that another clip has the alias; the second time it is taken from it.
        taken = error.kind === "urn:yadori:problem:alias-taken";
        return false;
      },
    );
    if (done) close();
  }
</script>

<Dialog title={w().labelQuestion.title(named(clip))} onclose={close}>
  <form id="label-form" class="space-y-4" onsubmit={save}>
    <Field label={w().labelQuestion.name} help={w().labelQuestion.nameHelp}
      >{#snippet children(id, help)}<input
          {id}
          aria-describedby={help}
          class="input w-full"
          bind:value={title}
          maxlength="1000"
          dir="auto"
        />{/snippet}</Field
    >
    <Field label={w().labelQuestion.alias} help={w().labelQuestion.aliasHelp}
      >{#snippet children(id, help)}<input
          {id}
          aria-describedby={help}
          class="input w-full"
          bind:value={alias}
          maxlength="60"
          autocapitalize="off"
          spellcheck="false"
          oninput={() => (taken = false)}
        />{/snippet}</Field
    >
    <fieldset>
      <legend class="text-sm font-semibold">{w().labelQuestion.mark}</legend>
      <div class="mt-1 flex flex-wrap gap-x-4 gap-y-1">
        {#each COLOURS as colour (colour)}
          <label class="flex items-center gap-1.5 text-sm">
            <input type="radio" name="mark" value={colour} bind:group={mark} />
            {#if colour !== "none"}<span class="mark-{colour} size-3 rounded-full" aria-hidden="true"></span>{/if}
            {colour === "none" ? w().labelQuestion.noMark : w().clips.colours[colour]}
          </label>
        {/each}
      </div>
    </fieldset>
    {#if clip.kind === "text"}
      <label class="flex items-center gap-2 text-sm"
        ><input type="checkbox" bind:checked={fills} />{w().labelQuestion.fills}</label
      >
    {/if}
  </form>
  {#snippet actions()}<Button look="primary" type="submit" form="label-form"
      >{taken ? w().labelQuestion.takeAlias : w().actions.save}</Button
    >{/snippet}
</Dialog>
