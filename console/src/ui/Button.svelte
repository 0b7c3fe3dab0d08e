<!-- A button. It shows its key, when it has one, and says it to a screen reader; where there is no such command, there is no button. -->
<script lang="ts">
  import type { Snippet } from "svelte";
  import type { HTMLButtonAttributes } from "svelte/elements";
  import { keymap } from "../state/keymap.svelte";

  type Props = Omit<HTMLButtonAttributes, "children"> & {
    look?: "plain" | "primary" | "quiet" | "warning";
    /** The command that it carries out: its key is shown. */
    command?: string;
    small?: boolean;
    children: Snippet;
  };
  let { look = "plain", command, small = true, children, class: more = "", ...rest }: Props = $props();
  const looks = { plain: "", primary: "btn-primary", quiet: "btn-ghost", warning: "btn-error" };
  const key = $derived(command ? keymap.first(command) : undefined);
</script>

{#if !command || keymap.has(command)}
  <button type="button" class="btn {small ? 'btn-sm' : ''} {looks[look]} {more}" aria-keyshortcuts={key} {...rest}>
    {@render children()}{#if key}<kbd class="key max-md:hidden" aria-hidden="true">{key}</kbd>{/if}
  </button>
{/if}
