<!-- The keys that work in every program of the computer on which the service runs. -->
<script lang="ts">
  import * as api from "../lib/api";
  import { run } from "../state/notices.svelte";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Section from "../ui/Section.svelte";

  const keys = new Resource(api.keys, { parts: ["keys"] });
  $effect(() => keys.watch());
  let asked = $state<{ action: string; keys: string }>();

  async function save(event: SubmitEvent) {
    event.preventDefault();
    const now = asked;
    if (now && (await run(() => api.setKeys(now.action, now.keys.trim() || undefined)))) {
      asked = undefined;
      await keys.load();
    }
  }
</script>

<Section title={w().keys.everywhere} about={w().keys.everywhereAbout}>
  {#if keys.value?.failed}<p class="mb-2 text-warning" role="note">{keys.value.failed}</p>{/if}
  <table class="w-full text-sm">
    <thead class="faint text-left"
      ><tr
        ><th class="py-1 pr-4 font-normal">{w().keys.does}</th><th class="pr-4 font-normal">{w().keys.keys}</th><th
          class="font-normal"><span class="sr-only">{w().keys.change}</span></th
        ></tr
      ></thead
    >
    <tbody>
      {#each keys.value?.keys ?? [] as key (key.action)}
        <tr class="border-t border-base-300">
          <td class="py-1.5 pr-4"
            >{w().keys.actions[key.action] ?? key.description}{#if key.state === "taken"}<span
                class="block text-warning">{w().keys.taken(key.taken_by ?? "")}</span
              >{/if}</td
          >
          <td class="pr-4">
            {#if asked?.action === key.action}
              <form id="keys-{key.action}" onsubmit={save}>
                <input
                  class="input input-sm w-44"
                  aria-label={w().keys.keysOf(w().keys.actions[key.action] ?? key.description)}
                  bind:value={asked.keys}
                />
              </form>
            {:else if key.keys}<kbd class="key">{key.keys}</kbd>{:else}<span class="faint">{w().keys.none}</span>{/if}
          </td>
          <td class="text-right">
            {#if asked?.action === key.action}<Button type="submit" form="keys-{key.action}" look="primary"
                >{w().actions.save}</Button
              >
            {:else}<Button
                look="quiet"
                aria-label={w().keys.changeOf(w().keys.actions[key.action] ?? key.description)}
                onclick={() => (asked = { action: key.action, keys: key.keys ?? "" })}>{w().keys.change}</Button
              >{/if}
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
</Section>
