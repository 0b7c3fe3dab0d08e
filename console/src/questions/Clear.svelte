<!-- Which slice of the history goes, with how much that is before anything is done. -->
<script lang="ts">
  import * as api from "../lib/api";
  import type { Clear, Kind } from "../lib/api";
  import { size } from "../lib/format";
  import { clear } from "../state/commands.svelte";
  import { run } from "../state/notices.svelte";
  import { KINDS } from "../lib/clips";
  import { w } from "../words/index.svelte";
  import Amount from "../ui/Amount.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";
  import Field from "../ui/Field.svelte";

  let { close }: { close: () => void } = $props();
  let age = $state<"any" | "older" | "newer">("older");
  let seconds = $state(30 * 86_400);
  let kind = $state<Kind | "">("");
  let application = $state("");
  let forGood = $state(false);
  let found = $state.raw<{ count: number; bytes: number; kept: number }>();

  const slice = $derived<Clear>({
    ...(age === "older" ? { older_than_seconds: seconds } : {}),
    ...(age === "newer" ? { newer_than_seconds: seconds } : {}),
    ...(kind ? { kind } : {}),
    ...(application.trim() ? { application: application.trim() } : {}),
    ...(age === "any" && !kind && !application.trim() ? { all: true } : {}),
  });

  let latest = 0;
  $effect(() => {
    const asked = slice;
    const mine = ++latest;
    void run(() => api.clear({ ...asked, dry_run: true })).then((told) => {
      if (mine === latest) found = told;
    });
  });

  // Only what was shown goes: if it is another number by now, nothing does.
  async function go() {
    if (found && (await clear({ ...slice, for_good: forGood, expected: found.count }))) close();
  }
</script>

<Dialog title={w().clearQuestion.title} onclose={close}>
  <div class="space-y-4">
    <fieldset>
      <legend class="text-sm font-semibold">{w().clearQuestion.age}</legend>
      {#each ["older", "newer", "any"] as const as one (one)}
        <label class="mt-1 flex items-center gap-2"
          ><input type="radio" name="age" value={one} bind:group={age} />{w().clearQuestion.ages[one]}</label
        >
      {/each}
    </fieldset>
    {#if age !== "any"}
      <Amount
        label={w().clearQuestion.than}
        unit="seconds"
        value={seconds}
        min={1}
        onchange={(value) => (seconds = value)}
      />
    {/if}
    <Field label={w().clearQuestion.kind}>
      {#snippet children(id)}
        <select {id} class="select select-sm" bind:value={kind}>
          <option value="">{w().clearQuestion.anyKind}</option>
          {#each KINDS as one (one)}<option value={one}>{w().rules.kinds[one]}</option>{/each}
        </select>
      {/snippet}
    </Field>
    <Field label={w().clearQuestion.application}>
      {#snippet children(id)}<input {id} class="input input-sm w-full" bind:value={application} />{/snippet}
    </Field>
    <label class="flex items-center gap-2"
      ><input type="checkbox" bind:checked={forGood} />{w().clearQuestion.forGood}</label
    >
    <p role="status">
      {found ? w().clearQuestion.found(found.count, size(found.bytes), found.kept) : w().entry.loading}
    </p>
  </div>
  {#snippet actions()}
    <Button look="warning" disabled={!found || found.count === 0} onclick={go}
      >{forGood ? w().clearQuestion.goForGood : w().clearQuestion.go}</Button
    >
  {/snippet}
</Dialog>
