<!-- What this device shares with the others, as sentences with controls in them. -->
<script lang="ts">
  import * as api from "../lib/api";
  import type { Kind, PolicyChange } from "../lib/api";
  import { run } from "../state/notices.svelte";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";
  import Amount from "../ui/Amount.svelte";
  import Section from "../ui/Section.svelte";
  import Words from "../ui/Words.svelte";

  const KINDS: Kind[] = ["text", "link", "image", "files"];
  const EXTENTS = ["everything", "kept-only", "by-hand"] as const;
  const policy = new Resource(api.policy, { parts: ["devices"] });
  $effect(() => policy.watch());
  const is = $derived(policy.value);

  async function change(change: PolicyChange) {
    const changed = await run(
      () => api.changePolicy(change),
      () => w().sharing.saved,
    );
    if (changed) policy.take(changed);
    else await policy.load();
  }

  const toggle = (kind: Kind) => {
    const left = is?.kinds_left_out ?? [];
    void change({ kinds_left_out: left.includes(kind) ? left.filter((other) => other !== kind) : [...left, kind] });
  };
</script>

<Section title={w().sharing.title} about={w().sharing.about}>
  {#if is}
    <div class="space-y-4">
      <p class="flex flex-wrap items-center gap-2">
        <label for="leaves">{w().sharing.leaves}</label>
        <select
          id="leaves"
          class="select select-sm w-auto"
          value={is.leaves}
          onchange={(event) =>
            change({ leaves: EXTENTS.find((extent) => extent === event.currentTarget.value) ?? is.leaves })}
        >
          {#each EXTENTS as extent (extent)}<option value={extent}>{w().sharing.extents[extent]}</option>{/each}
        </select>
      </p>
      <fieldset>
        <legend>{w().sharing.kinds}</legend>
        <div class="mt-1 flex flex-wrap gap-4">
          {#each KINDS as kind (kind)}<label class="flex items-center gap-2"
              ><input type="checkbox" checked={!is.kinds_left_out.includes(kind)} onchange={() => toggle(kind)} />{w()
                .rules.kinds[kind]}</label
            >{/each}
        </div>
      </fieldset>
      <Words
        label={w().sharing.apps}
        values={is.applications_left_out}
        onchange={(applications_left_out) => change({ applications_left_out })}
      />
      <p class="flex flex-wrap items-center gap-2">
        <label for="arrives">{w().sharing.arrives}</label>
        <select
          id="arrives"
          class="select select-sm w-auto"
          value={is.arrives}
          onchange={(event) =>
            change({ arrives: EXTENTS.find((extent) => extent === event.currentTarget.value) ?? is.arrives })}
        >
          {#each EXTENTS as extent (extent)}<option value={extent}>{w().sharing.extents[extent]}</option>{/each}
        </select>
      </p>
      <Amount
        label={w().sharing.fetchAbove}
        unit="bytes"
        value={is.fetch_above}
        onchange={(fetch_above) => change({ fetch_above })}
      />
      <label class="flex items-center gap-2"
        ><input
          type="checkbox"
          class="toggle toggle-sm"
          checked={is.follow}
          onchange={(event) => change({ follow: event.currentTarget.checked })}
        />{w().sharing.follow}</label
      >
      <label class="flex items-center gap-2"
        ><input
          type="checkbox"
          class="toggle toggle-sm"
          checked={is.may_be_put_on_clipboard}
          onchange={(event) => change({ may_be_put_on_clipboard: event.currentTarget.checked })}
        />{w().sharing.mayPut}</label
      >
    </div>
  {/if}
</Section>
