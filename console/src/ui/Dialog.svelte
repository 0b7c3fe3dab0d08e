<!-- A dialog over the page. Escape and the button close it, and the focus goes back to where it was. -->
<script lang="ts">
  import { onMount, type Snippet } from "svelte";
  import { w } from "../words/index.svelte";
  import Button from "./Button.svelte";

  type Props = { title: string; onclose: () => void; children: Snippet; actions?: Snippet; wide?: boolean };
  let { title, onclose, children, actions, wide = false }: Props = $props();
  let dialog = $state<HTMLDialogElement>();
  const id = $props.id();

  onMount(() => {
    const before = document.activeElement;
    dialog?.showModal();
    return () => before instanceof HTMLElement && before.focus();
  });
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="title-{id}" {onclose}>
  <div class="modal-box {wide ? 'max-w-3xl' : 'max-w-lg'}">
    <h2 id="title-{id}" class="ledger-face text-2xl break-words">{title}</h2>
    <div class="mt-4">{@render children()}</div>
    <div class="modal-action">
      {#if actions}{@render actions()}{/if}
      <Button onclick={() => dialog?.close()}>{w().actions.close}</Button>
    </div>
  </div>
</dialog>
