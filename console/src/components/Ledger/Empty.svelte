<!-- An empty page says what will stand on it, and how it gets there. -->
<script lang="ts">
  import { ledger } from "../../state/ledger.svelte";
  import { service } from "../../state/status.svelte";

  let text = $state("");
  const off = $derived(service.current?.capture.state === "off");

  async function add(event: SubmitEvent) {
    event.preventDefault();
    if (text.trim() && (await ledger.add(text))) text = "";
  }
</script>

<div class="mx-auto max-w-xl px-6 py-16">
  {#if ledger.query.trim()}
    <h2 class="ledger-face text-2xl">Nothing meets this search</h2>
    <p class="mt-3">Fewer words, or parts of words, find more. Accents and capital letters do not matter.</p>
    <p class="mt-6"><button class="btn btn-sm" onclick={() => ledger.search("")}>Show the whole history</button></p>
  {:else}
    <h2 class="ledger-face text-2xl">The page is still empty</h2>
    {#if off}
      <p class="mt-3">There is no clipboard on this computer to keep copies from ({service.current?.capture.reason}). You can still write something in.</p>
    {:else}
      <p class="mt-3">Copy something in any program, and it is written here by itself: text, links, pictures, lists of files. Nothing leaves this computer.</p>
    {/if}
    <ol class="mt-6 list-decimal space-y-2 pl-5">
      <li>Copy something now, and watch it arrive.</li>
      <li>Find it again with a few letters, in the field above.</li>
      <li>Put it back on the clipboard, and paste it where you need it.</li>
    </ol>
    <form class="mt-8 flex gap-2" onsubmit={add}>
      <input class="input grow" bind:value={text} aria-label="Write something in by hand" placeholder="Or write something in by hand" />
      <button class="btn">Add</button>
    </form>
  {/if}
</div>
