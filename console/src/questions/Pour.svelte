<!-- How clips are joined on the clipboard: those of the tray, or those that were chosen. -->
<script lang="ts">
  import type { Clip } from "../lib/api";
  import { pour, recall } from "../state/commands.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";
  import Field from "../ui/Field.svelte";

  let { clips, drawer, close }: { clips?: Clip[] | undefined; drawer?: string | undefined; close: () => void } =
    $props();
  /** A tab between cells that lie across, a line end between those that lie down: so spreadsheets take them. */
  const JOINERS = {
    line: "\n",
    blank: "\n\n",
    space: " ",
    comma: ", ",
    semicolon: "; ",
    across: "\t",
    down: "\n",
    nothing: "",
  } as const;
  type Joiner = keyof typeof JOINERS | "own";
  const names: Joiner[] = ["line", "blank", "space", "comma", "semicolon", "across", "down", "nothing", "own"];
  let joiner = $state<Joiner>("line");
  let own = $state(" · ");

  async function put() {
    const join = joiner === "own" ? own : JOINERS[joiner];
    if (clips ? await recall(clips, { join, skip_others: true }) : await pour(join, drawer)) close();
  }
</script>

<Dialog
  title={clips
    ? w().pourQuestion.joinTitle(clips.length)
    : drawer
      ? w().pourQuestion.drawerTitle(drawer)
      : w().pourQuestion.title}
  onclose={close}
>
  <fieldset>
    <legend class="text-sm font-semibold">{w().pourQuestion.between}</legend>
    <div class="mt-2 grid gap-1.5">
      {#each names as name (name)}
        <label class="flex items-center gap-2"
          ><input type="radio" name="joiner" value={name} bind:group={joiner} />{w().pourQuestion.joiners[name]}</label
        >
      {/each}
    </div>
  </fieldset>
  {#if joiner === "own"}
    <div class="mt-3">
      <Field label={w().pourQuestion.own}
        >{#snippet children(id)}<input {id} class="input w-full" bind:value={own} />{/snippet}</Field
      >
    </div>
  {/if}
  {#snippet actions()}<Button look="primary" onclick={put}>{w().entry.recall}</Button>{/snippet}
</Dialog>
