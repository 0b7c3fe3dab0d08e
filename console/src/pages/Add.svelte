<!-- Writing into the history by hand: typed, pasted, or as files. -->
<script lang="ts">
  import { add, addFiles } from "../state/commands.svelte";
  import { draft } from "../state/draft.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Page from "../ui/Page.svelte";
  import Section from "../ui/Section.svelte";

  let chooser = $state<HTMLInputElement>();

  async function save(event?: SubmitEvent) {
    event?.preventDefault();
    // What was typed goes only when it is kept.
    if (draft.text.trim() && (await add(draft.text))) draft.text = "";
  }

  function keydown(event: KeyboardEvent) {
    if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) void save();
  }

  async function paste(event: ClipboardEvent) {
    const files = [...(event.clipboardData?.files ?? [])];
    if (files.length === 0) return;
    event.preventDefault();
    await addFiles(files);
  }

  async function choose() {
    const files = [...(chooser?.files ?? [])];
    if (files.length > 0) await addFiles(files);
    if (chooser) chooser.value = "";
  }
</script>

<Page title={w().pages.add} about={w().add.about}>
  <form onsubmit={save}>
    <label for="add-text" class="block text-sm font-semibold">{w().add.text}</label>
    <textarea
      id="add-text"
      class="textarea mt-1 h-48 w-full"
      bind:value={draft.text}
      onkeydown={keydown}
      onpaste={paste}
      dir="auto"
      aria-describedby="add-help"></textarea>
    <p id="add-help" class="faint mt-1 text-sm">{w().add.help}</p>
    <Button look="primary" type="submit" small={false} class="mt-3" disabled={!draft.text.trim()}>{w().add.save}</Button
    >
  </form>
  <Section title={w().add.files} about={w().add.filesAbout}>
    <input bind:this={chooser} id="add-files" type="file" multiple class="sr-only" onchange={choose} />
    <label for="add-files" class="btn btn-sm focus-within:outline-2">{w().add.choose}</label>
  </Section>
</Page>
