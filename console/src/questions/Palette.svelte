<!-- All commands in one list, found by a few letters; each shows its key. -->
<script lang="ts">
  import { tick } from "svelte";
  import { COMMANDS, frame, type Command } from "../state/commands.svelte";
  import { keymap } from "../state/keymap.svelte";
  import { w } from "../words/index.svelte";
  import Dialog from "../ui/Dialog.svelte";

  let { close }: { close: () => void } = $props();
  let typed = $state("");
  let at = $state(0);
  let list = $state<HTMLElement>();

  const targets = frame.list?.targets() ?? [];
  const can = (command: Command) =>
    command.scope !== "entry" || (targets.length > 0 && (command.can?.(targets) ?? true));
  const name = (command: Command) => w().commands[command.id] ?? command.id;
  const found = $derived.by(() => {
    const words = typed.toLocaleLowerCase().split(/\s+/).filter(Boolean);
    return COMMANDS.filter(
      (command) =>
        command.id !== "palette" &&
        can(command) &&
        words.every((word) => name(command).toLocaleLowerCase().includes(word)),
    );
  });

  const active = $derived(found[at]);

  function act(command: Command | undefined) {
    if (!command) return;
    close();
    // The dialog gives the focus back first; then the command may take it.
    void tick().then(() => command.run(targets));
  }

  function keydown(event: KeyboardEvent) {
    if (event.key === "ArrowDown") at = Math.min(at + 1, found.length - 1);
    else if (event.key === "ArrowUp") at = Math.max(at - 1, 0);
    else if (event.key === "Enter") act(found[at]);
    else return;
    event.preventDefault();
    void tick().then(() => list?.querySelector("[aria-selected=true]")?.scrollIntoView({ block: "nearest" }));
  }
</script>

<Dialog title={w().palette.title} onclose={close}>
  <!-- svelte-ignore a11y_autofocus -->
  <input
    class="input w-full"
    autofocus
    role="combobox"
    aria-expanded="true"
    aria-controls="palette-list"
    aria-activedescendant={active ? `palette-${active.id}` : undefined}
    aria-label={w().palette.label}
    placeholder={w().palette.label}
    bind:value={typed}
    oninput={() => (at = 0)}
    onkeydown={keydown}
    autocomplete="off"
  />
  <ul
    id="palette-list"
    bind:this={list}
    role="listbox"
    aria-label={w().palette.title}
    class="mt-2 max-h-80 overflow-y-auto"
  >
    {#each found as command, place (command.id)}
      <!-- svelte-ignore a11y_click_events_have_key_events -->
      <li
        id="palette-{command.id}"
        role="option"
        aria-selected={place === at}
        class="flex cursor-pointer items-center justify-between gap-4 rounded-sm px-3 py-1.5 text-sm {place === at
          ? 'bg-base-200 outline-2 -outline-offset-2 outline-primary'
          : ''}"
        onclick={() => act(command)}
      >
        {name(command)}{#if keymap.keys(command)[0]}<kbd class="key" aria-hidden="true">{keymap.keys(command)[0]}</kbd
          >{/if}
      </li>
    {/each}
  </ul>
  <p class="faint mt-2 text-sm" role="status">
    {found.length === 0 ? w().palette.none : targets.length > 0 ? w().palette.about(targets.length) : ""}
  </p>
</Dialog>
