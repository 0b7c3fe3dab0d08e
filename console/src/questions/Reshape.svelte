<!-- Ways to reshape a text, with what it was before and would be after. -->
<script lang="ts">
  import * as api from "../lib/api";
  import type { Clip } from "../lib/api";
  import { named, toggled } from "../lib/clips";
  import { recall } from "../state/commands.svelte";
  import { run } from "../state/notices.svelte";
  import { Resource } from "../state/resource.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";

  let { clip, close }: { clip: Clip; close: () => void } = $props();
  const ways = new Resource(api.ways, {});
  $effect(() => ways.watch());
  let chosen = $state<string[]>([]);
  let shown = $state<{ before: string; after: string }>();
  let latest = 0;

  $effect(() => {
    const wanted = [...chosen];
    const mine = ++latest;
    if (wanted.length === 0) {
      shown = undefined;
      return;
    }
    void run(() => api.reshape(clip.id, wanted, false)).then((reshaped) => {
      if (mine === latest) shown = reshaped;
    });
  });

  const toggle = (way: string) => (chosen = toggled(chosen, way));

  async function save() {
    const done = await run(
      () => api.reshape(clip.id, chosen, true),
      (reshaped) => (reshaped.clip ? w().done.added(named(reshaped.clip)) : undefined),
    );
    if (done) close();
  }

  async function put() {
    if (await recall([clip], { reshape: chosen })) close();
  }
</script>

<Dialog title={w().reshapeQuestion.title(named(clip))} wide onclose={close}>
  <div class="flex flex-wrap gap-1.5" role="group" aria-label={w().reshapeQuestion.ways}>
    {#each (ways.value ?? []).filter((way) => /^[a-z-]+$/.test(way.name)) as way (way.name)}
      <button
        type="button"
        class="btn btn-xs {chosen.includes(way.name) ? 'btn-primary' : ''}"
        aria-pressed={chosen.includes(way.name)}
        title={way.does}
        onclick={() => toggle(way.name)}>{way.name}</button
      >
    {/each}
  </div>
  {#if shown}
    <div class="mt-4 grid gap-3 sm:grid-cols-2">
      {#each [[w().reshapeQuestion.before, shown.before], [w().reshapeQuestion.after, shown.after]] as [title, text] (title)}
        <section aria-label={title}>
          <h3 class="text-sm font-semibold">{title}</h3>
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <pre
            class="mt-1 max-h-64 overflow-auto rounded-sm border border-base-300 p-2 font-mono text-sm break-words whitespace-pre-wrap"
            dir="auto"
            tabindex="0">{text}</pre>
        </section>
      {/each}
    </div>
  {:else}
    <p class="faint mt-4 text-sm">{w().reshapeQuestion.about}</p>
  {/if}
  {#snippet actions()}
    <Button look="primary" disabled={!shown} onclick={put}>{w().entry.recall}</Button>
    <Button disabled={!shown} onclick={save}>{w().reshapeQuestion.keep}</Button>
  {/snippet}
</Dialog>
