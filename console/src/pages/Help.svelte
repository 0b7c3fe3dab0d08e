<!-- Tasks and keys, searchable. -->
<script lang="ts">
  import { href } from "../lib/router.svelte";
  import { COMMANDS } from "../state/commands.svelte";
  import { keymap } from "../state/keymap.svelte";
  import { w } from "../words/index.svelte";
  import Page from "../ui/Page.svelte";
  import Section from "../ui/Section.svelte";

  let typed = $state("");
  const meets = (...texts: string[]) =>
    typed
      .toLocaleLowerCase()
      .split(/\s+/)
      .filter(Boolean)
      .every((word) => texts.some((text) => text.toLocaleLowerCase().includes(word)));
  const tasks = $derived(w().help.tasks.filter((task) => meets(task.title, task.text)));
  const keys = $derived([
    ...w().help.moving.filter(([key, does]) => meets(key, does)),
    ...COMMANDS.flatMap((command): [string, string][] => {
      const keys = keymap.keys(command).join(" ");
      const name = w().commands[command.id] ?? command.id;
      return keys && meets(keys, name) ? [[keys, name]] : [];
    }),
  ]);
  const filters = $derived(w().help.filters.filter(([word, does]) => meets(word, does)));
</script>

{#snippet table(rows: readonly (readonly [string, string])[])}
  <dl class="grid grid-cols-[max-content_1fr] items-baseline gap-x-4 gap-y-1.5 text-sm">
    {#each rows as [key, meaning] (key + meaning)}<dt><kbd class="key">{key}</kbd></dt>
      <dd>{meaning}</dd>{/each}
  </dl>
{/snippet}

<Page title={w().pages.help} about={w().help.about}>
  <input
    type="search"
    class="input w-full max-w-md"
    bind:value={typed}
    aria-label={w().help.search}
    placeholder={w().help.search}
  />
  <p class="sr-only" role="status">{typed ? w().help.found(tasks.length + keys.length + filters.length) : ""}</p>
  {#if tasks.length > 0}
    <Section title={w().help.tasksTitle}>
      <dl class="grid gap-x-8 gap-y-4 md:grid-cols-2">
        {#each tasks as task (task.title)}
          <div>
            <dt class="font-semibold">
              {#if task.page}<a class="hover:underline" href={href({ page: task.page })}>{task.title}</a
                >{:else}{task.title}{/if}
            </dt>
            <dd class="mt-0.5 text-sm">{task.text}</dd>
          </div>
        {/each}
      </dl>
    </Section>
  {/if}
  <div class="grid gap-8 md:grid-cols-2">
    {#if keys.length > 0}<Section title={w().help.keysTitle} about={w().help.keysAbout}>{@render table(keys)}</Section
      >{/if}
    {#if filters.length > 0}<Section title={w().help.filtersTitle}>{@render table(filters)}</Section>{/if}
  </div>
  {#if tasks.length + keys.length + filters.length === 0}<p>{w().help.none}</p>{/if}
</Page>
