<!-- A limit for some of the clips besides: of a kind, or copied in an application. -->
<script lang="ts">
  import type { Kind, Rules } from "../lib/api";
  import { KINDS } from "../lib/clips";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";

  type Scope = Rules["scopes"][number];
  let { onadd }: { onadd: (scope: Scope) => void } = $props();
  let of = $state<Kind | "application">("image");
  let application = $state("");
  let count = $state<number>();
  let days = $state<number>();

  const fits = $derived((of !== "application" || application.trim() !== "") && (count || days));

  function add(event: SubmitEvent) {
    event.preventDefault();
    if (!fits) return;
    onadd({
      ...(of === "application" ? { application: application.trim() } : { kind: of }),
      limits: { ...(count ? { count } : {}), ...(days ? { age_seconds: days * 86_400 } : {}) },
    });
    application = "";
    count = days = undefined;
  }
</script>

<form class="flex flex-wrap items-center gap-2" onsubmit={add} aria-label={w().rules.newScope}>
  <label for="scope-of">{w().rules.newScope}</label>
  <select id="scope-of" class="select select-sm w-auto" bind:value={of}>
    {#each KINDS as kind (kind)}<option value={kind}>{w().rules.kinds[kind]}</option>{/each}
    <option value="application">{w().rules.ofApplication}</option>
  </select>
  {#if of === "application"}
    <input
      class="input input-sm w-40"
      aria-label={w().rules.application}
      placeholder={w().rules.application}
      bind:value={application}
    />
  {/if}
  <label for="scope-count">{w().rules.atMostSo}</label>
  <input id="scope-count" type="number" min="1" class="input input-sm w-24" bind:value={count} />
  <label for="scope-days">{w().rules.forDays}</label>
  <input id="scope-days" type="number" min="1" class="input input-sm w-24" bind:value={days} />
  <Button type="submit" disabled={!fits}>{w().actions.add}</Button>
</form>
