<!-- What this device shares with the others, as sentences with controls in them. -->
<script lang="ts">
  import * as api from "../lib/api";
  import type { Policy, PolicyChange } from "../lib/api";
  import { KINDS, toggled } from "../lib/clips";
  import { run } from "../state/notices.svelte";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";
  import Amount from "../ui/Amount.svelte";
  import Checks from "../ui/Checks.svelte";
  import Section from "../ui/Section.svelte";
  import Toggle from "../ui/Toggle.svelte";
  import Words from "../ui/Words.svelte";

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
</script>

{#snippet extent(of: "leaves" | "arrives", label: string, chosen: Policy["leaves"])}
  <p class="flex flex-wrap items-center gap-2">
    <label for={of}>{label}</label>
    <select
      id={of}
      class="select select-sm w-auto"
      value={chosen}
      onchange={(event) => change({ [of]: EXTENTS.find((extent) => extent === event.currentTarget.value) ?? chosen })}
    >
      {#each EXTENTS as extent (extent)}<option value={extent}>{w().sharing.extents[extent]}</option>{/each}
    </select>
  </p>
{/snippet}

<Section title={w().sharing.title} about={w().sharing.about}>
  {#if is}
    <div class="space-y-4">
      {@render extent("leaves", w().sharing.leaves, is.leaves)}
      <Checks
        legend={w().sharing.kinds}
        all={KINDS}
        names={w().rules.kinds}
        chosen={KINDS.filter((kind) => !is.kinds_left_out.includes(kind))}
        ontoggle={(kind) => change({ kinds_left_out: toggled(is.kinds_left_out, kind) })}
      />
      <Words
        label={w().sharing.apps}
        values={is.applications_left_out}
        onchange={(applications_left_out) => change({ applications_left_out })}
      />
      <Amount
        label={w().sharing.sizeLimit}
        unit="bytes"
        value={is.size_limit ?? 0}
        onchange={(size_limit) => change({ size_limit })}
      />
      {@render extent("arrives", w().sharing.arrives, is.arrives)}
      <Amount
        label={w().sharing.fetchAbove}
        unit="bytes"
        value={is.fetch_above}
        onchange={(fetch_above) => change({ fetch_above })}
      />
      <Toggle label={w().sharing.follow} checked={is.follow} onchange={(follow) => change({ follow })} />
      <Toggle
        label={w().sharing.mayPut}
        checked={is.may_be_put_on_clipboard}
        onchange={(may_be_put_on_clipboard) => change({ may_be_put_on_clipboard })}
      />
    </div>
  {/if}
</Section>
