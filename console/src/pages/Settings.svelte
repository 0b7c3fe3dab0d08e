<!-- How the console looks and answers in this browser, and which browsers are let in. -->
<script lang="ts">
  import * as api from "../lib/api";
  import { exportUrl } from "../lib/api";
  import { relative } from "../lib/format";
  import { COMMANDS, type Command } from "../state/commands.svelte";
  import { chord, keymap, unfit } from "../state/keymap.svelte";
  import { notices, run } from "../state/notices.svelte";
  import { DENSITIES, preferences, THEMES } from "../state/preferences.svelte";
  import { Resource } from "../state/resource.svelte";
  import { service } from "../state/service.svelte";
  import { language, LANGUAGES, w, type LanguageName } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Page from "../ui/Page.svelte";
  import Section from "../ui/Section.svelte";
  import Toggle from "../ui/Toggle.svelte";
  import LockSettings from "./LockSettings.svelte";
  import Phone from "./Phone.svelte";

  const sessions = new Resource(api.sessions, { status: true });
  $effect(() => (api.isGuest ? undefined : sessions.watch()));
  let waiting = $state<Command>();
  const keyed = COMMANDS.filter((command) => command.keys.length > 0 || !command.id.startsWith("page."));

  /** Takes the next key that is pressed for the command that waits for one. */
  function keydown(event: KeyboardEvent) {
    const command = waiting;
    if (!command || ["Shift", "Control", "Alt", "Meta", "Tab"].includes(event.key)) return;
    event.preventDefault();
    event.stopPropagation();
    waiting = undefined;
    if (event.key === "Escape") return;
    const key = chord(event);
    const why = unfit(key, command, keymap.held);
    if (why === "taken") notices.wrong(new Error(w().settings.keyTaken(key)));
    else if (why === "browser") notices.wrong(new Error(w().settings.keyOfBrowser(key)));
    else if (why) notices.wrong(new Error(w().settings.keyHeld(key, w().commands[why.by.id] ?? "")));
    else keymap.set(command, [key]);
  }

  let chooser = $state<HTMLInputElement>();

  async function take() {
    const file = chooser?.files?.[0];
    if (!file) return;
    await run(
      () => api.importArchive(file),
      ({ added, known, skipped }) => w().settings.imported(added, known, skipped),
    );
    if (chooser) chooser.value = "";
  }

  async function shutOut(id: string) {
    await run(
      () => api.shutOut(id),
      () => w().settings.shutOut,
    );
    await sessions.load();
  }
</script>

<Page title={w().pages.settings} about={w().settings.about}>
  <Section title={w().settings.look}>
    <div class="grid gap-6 sm:grid-cols-3">
      <fieldset>
        <legend class="text-sm font-semibold">{w().settings.theme}</legend>
        {#each THEMES as theme (theme)}<label class="mt-1 flex items-center gap-2"
            ><input
              type="radio"
              name="theme"
              value={theme}
              checked={preferences.theme === theme}
              onchange={() => preferences.choose(theme)}
            />{w().settings.themes[theme]}</label
          >{/each}
      </fieldset>
      <fieldset>
        <legend class="text-sm font-semibold">{w().settings.density}</legend>
        {#each DENSITIES as density (density)}<label class="mt-1 flex items-center gap-2"
            ><input
              type="radio"
              name="density"
              value={density}
              checked={preferences.density === density}
              onchange={() => preferences.pack(density)}
            />{w().settings.densities[density]}</label
          >{/each}
      </fieldset>
      <fieldset>
        <legend class="text-sm font-semibold">{w().settings.language}</legend>
        <label class="mt-1 flex items-center gap-2"
          ><input
            type="radio"
            name="language"
            checked={!language.chosen}
            onchange={() => language.choose(undefined)}
          />{w().settings.asBrowser}</label
        >
        {#each Object.entries(LANGUAGES) as [name, label] (name)}<label class="mt-1 flex items-center gap-2" lang={name}
            ><input
              type="radio"
              name="language"
              checked={language.chosen === name}
              onchange={() => language.choose(name as LanguageName)}
            />{label}</label
          >{/each}
      </fieldset>
    </div>
  </Section>
  {#if !api.isGuest}
    {#if service.status.value && service.status.value.starts_at_log_in != null}
      <Section title={w().logIn.title}>
        <Toggle
          label={w().logIn.label}
          checked={service.status.value.starts_at_log_in}
          onchange={(starts) => service.startAtLogIn(starts)}
        />
      </Section>
    {/if}
    <LockSettings />
    <Phone />
    <Section title={w().settings.browsers} about={w().settings.browsersAbout}>
      <ul class="space-y-2">
        {#each sessions.value ?? [] as session (session.id)}
          <li class="flex items-center justify-between gap-4 border-b border-base-300 pb-2">
            <span class="text-sm"
              ><bdi>{session.browser}</bdi><span class="faint block"
                >{w().settings.used(relative(new Date(session.used_at)), relative(new Date(session.expires_at)))}</span
              ></span
            >
            <Button aria-label={w().settings.shutOutIt(session.browser)} onclick={() => shutOut(session.id)}
              >{w().settings.shut}</Button
            >
          </li>
        {/each}
      </ul>
      {#if (sessions.value?.length ?? 0) > 1}<Button class="mt-3" onclick={() => shutOut("all")}
          >{w().settings.shutAll}</Button
        >{/if}
    </Section>
    <Section title={w().settings.export} about={w().settings.exportAbout}
      ><a class="btn btn-sm" href={exportUrl("")} download>{w().settings.exportAll}</a>
      <input bind:this={chooser} id="import-file" type="file" accept=".zip" class="sr-only" onchange={take} />
      <label for="import-file" class="btn btn-sm focus-within:outline-2">{w().settings.import}</label></Section
    >
  {/if}
  <Section title={w().settings.keys} about={w().settings.keysAbout}>
    <table class="w-full text-sm">
      <thead class="sr-only"><tr><th>{w().keys.does}</th><th>{w().keys.keys}</th><th>{w().keys.change}</th></tr></thead>
      <tbody>
        {#each keyed as command (command.id)}
          <tr class="border-t border-base-300">
            <td class="py-1.5 pr-4">{w().commands[command.id]}</td>
            <td class="pr-4"
              >{#if waiting === command}<span role="status">{w().settings.press}</span
                >{:else if keymap.keys(command).length > 0}<kbd class="key">{keymap.keys(command).join(" ")}</kbd
                >{:else}<span class="faint">{w().keys.none}</span>{/if}</td
            >
            <td class="text-right whitespace-nowrap">
              <Button
                look="quiet"
                aria-label={w().keys.changeOf(w().commands[command.id] ?? "")}
                onclick={() => (waiting = command)}
                onkeydown={keydown}
                onblur={() => waiting === command && (waiting = undefined)}>{w().keys.change}</Button
              >
              {#if keymap.keys(command).length > 0}<Button
                  look="quiet"
                  aria-label={w().settings.noKeyFor(w().commands[command.id] ?? "")}
                  onclick={() => keymap.set(command, [])}>{w().settings.noKey}</Button
                >{/if}
              {#if keymap.isChanged(command)}<Button
                  look="quiet"
                  aria-label={w().settings.resetKeyOf(w().commands[command.id] ?? "")}
                  onclick={() => keymap.set(command, undefined)}>{w().settings.resetKey}</Button
                >{/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  </Section>
</Page>
