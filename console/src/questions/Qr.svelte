<!-- A clip as a QR code, for a phone's camera. -->
<script lang="ts">
  import { qrUrl, type Clip } from "../lib/api";
  import { named } from "../lib/clips";
  import { w } from "../words/index.svelte";
  import Dialog from "../ui/Dialog.svelte";

  let { clip, close }: { clip: Clip; close: () => void } = $props();
  let failed = $state(false);
</script>

<Dialog title={w().qrQuestion.title(named(clip))} onclose={close}>
  {#if failed}
    <p role="alert">{w().qrQuestion.tooLong}</p>
  {:else}
    <img
      src={qrUrl(clip.id)}
      alt={w().qrQuestion.alt}
      class="mx-auto w-72 max-w-full bg-white p-2"
      onerror={() => (failed = true)}
    />
    <p class="faint mt-2 text-center text-sm">{w().qrQuestion.about}</p>
  {/if}
</Dialog>
