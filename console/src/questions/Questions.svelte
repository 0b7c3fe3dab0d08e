<!-- The dialog for what asks a person for more than a key. -->
<script lang="ts">
  import { frame } from "../state/commands.svelte";
  import Answers from "./Answers.svelte";
  import Clear from "./Clear.svelte";
  import Edit from "./Edit.svelte";
  import IntoDrawer from "./IntoDrawer.svelte";
  import Label from "./Label.svelte";
  import Palette from "./Palette.svelte";
  import Pour from "./Pour.svelte";
  import Qr from "./Qr.svelte";
  import Reshape from "./Reshape.svelte";
  import Send from "./Send.svelte";

  const question = $derived(frame.question);
  const close = () => (frame.question = undefined);
</script>

{#if question?.kind === "drawer"}<IntoDrawer clips={question.clips} {close} />
{:else if question?.kind === "label"}<Label clip={question.clip} {close} />
{:else if question?.kind === "edit"}<Edit clip={question.clip} {close} />
{:else if question?.kind === "reshape"}<Reshape clip={question.clip} {close} />
{:else if question?.kind === "send"}<Send clips={question.clips} {close} />
{:else if question?.kind === "qr"}<Qr clip={question.clip} {close} />
{:else if question?.kind === "answers"}<Answers
    asks={question.asks}
    usual={question.usual}
    body={question.recall}
    {close}
  />
{:else if question?.kind === "pour"}<Pour clips={question.clips} drawer={question.drawer} {close} />
{:else if question?.kind === "clear"}<Clear {close} />
{:else if question?.kind === "palette"}<Palette {close} />
{/if}
