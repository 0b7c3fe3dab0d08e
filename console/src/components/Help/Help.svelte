<!-- Keys and search words. -->
<script lang="ts">
  let dialog = $state<HTMLDialogElement>();

  export function open(): void {
    dialog?.showModal();
  }

  const keys = [
    ["Ctrl K", "go to the search, from anywhere"],
    ["↓ ↑", "from the search into the ledger, and through it"],
    ["Enter", "in the search: put the first match on the clipboard; on an entry: unfold it"],
    ["r", "put the entry on the clipboard"],
    ["t", "put it there as plain text"],
    ["c", "copy it in this browser"],
    ["Delete", "delete it"],
    ["u", "undo"],
    ["Home End", "first and last entry"],
    ["Escape", "fold, clear, or back to the search"],
  ] as const;
  const words = [
    ["lamp cue", "both, in any order, also inside words"],
    ["\"cue seven\"", "exactly so"],
    ["-draft", "without this word"],
    ["kind:image", "text, link, image or files"],
    ["app:writer", "copied in this application"],
    ["after:3d", "in the last three days; also before:, today, 2026-11-01"],
    ["larger:2MB", "of more bytes than this"],
    ["is:sensitive", "looks like a secret"],
  ] as const;
</script>

{#snippet table(title: string, rows: readonly (readonly [string, string])[])}
  <section>
    <h3 class="ledger-face text-lg">{title}</h3>
    <dl class="mt-2 grid grid-cols-[max-content_1fr] items-baseline gap-x-4 gap-y-1.5 text-sm">
      {#each rows as [key, meaning] (key)}
        <dt><kbd class="kbd kbd-sm">{key}</kbd></dt>
        <dd>{meaning}</dd>
      {/each}
    </dl>
  </section>
{/snippet}

<dialog bind:this={dialog} class="modal" aria-labelledby="help-title">
  <div class="modal-box max-w-3xl">
    <h2 id="help-title" class="ledger-face text-2xl">Keys and search words</h2>
    <div class="mt-4 grid gap-8 md:grid-cols-2">
      {@render table("Keys", keys)}
      {@render table("Search", words)}
    </div>
    <form method="dialog" class="modal-action"><button class="btn">Close</button></form>
  </div>
</dialog>
