<!-- What is kept and what is not, before anything else; and a first try at once. -->
<script lang="ts">
  import * as api from "../lib/api";
  import { amounts, line } from "../lib/clips";
  import { href, router } from "../lib/router.svelte";
  import { add, recall } from "../state/commands.svelte";
  import { keymap } from "../state/keymap.svelte";
  import { Resource } from "../state/resource.svelte";
  import { service } from "../state/service.svelte";
  import { welcome } from "../state/welcome.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Page from "../ui/Page.svelte";
  import Section from "../ui/Section.svelte";

  let text = $state(w().welcome.sample);
  const newest = new Resource(async () => (await api.list("", undefined, undefined, 1)).clips[0], { clips: true });
  $effect(() => newest.watch());
  const last = $derived(newest.value);

  const rules = new Resource(api.rules, { parts: ["rules"] });
  $effect(() => rules.watch());
  const limits = $derived.by(() => {
    if (!rules.value) return undefined;
    const all = amounts(rules.value.limits);
    return all ? w().welcome.limits(all) : w().welcome.noLimits;
  });

  function done() {
    welcome.seen();
    router.go({});
  }
</script>

<Page title={w().welcome.title} about={w().welcome.about}>
  <div class="grid gap-8 md:grid-cols-2">
    <Section title={w().welcome.keptTitle}
      ><ul class="list-disc space-y-1.5 pl-5">
        {#each w().welcome.kept as line (line)}<li>{line}</li>{/each}
        {#if limits}<li>{limits}</li>{/if}
      </ul></Section
    >
    <Section title={w().welcome.notTitle}
      ><ul class="list-disc space-y-1.5 pl-5">
        {#each w().welcome.not as line (line)}<li>{line}</li>{/each}
      </ul></Section
    >
  </div>
  <Section title={w().welcome.tryTitle} about={w().welcome.tryAbout}>
    <form
      class="flex max-w-xl gap-2"
      onsubmit={(event) => {
        event.preventDefault();
        void add(text);
      }}
    >
      <input class="input grow" bind:value={text} aria-label={w().ledger.write} dir="auto" /><Button
        type="submit"
        small={false}>{w().actions.add}</Button
      >
    </form>
    {#if last}
      <p class="mt-4">
        {w().welcome.newest} <bdi class="font-mono text-sm break-all">{last.title ?? line(last)}</bdi>
      </p>
      <Button class="mt-2" onclick={() => recall([last])}>{w().entry.recall}</Button>
    {/if}
  </Section>
  <Section title={w().welcome.nextTitle}>
    <ul class="list-disc space-y-1.5 pl-5">
      <li>
        {w().welcome.keys(keymap.first("search") ?? "", keymap.first("palette") ?? "", keymap.first("help") ?? "")}
      </li>
      <li><a class="text-primary underline" href={href({ page: "rules" })}>{w().welcome.everywhere}</a></li>
      {#if service.status.value?.starts_at_log_in === false}<li>
          {w().welcome.logIn}
          <Button class="ml-1" onclick={() => service.startAtLogIn(true)}>{w().logIn.start}</Button>
        </li>{/if}
    </ul>
    <Button look="primary" small={false} class="mt-6" onclick={done}>{w().welcome.done}</Button>
  </Section>
</Page>
