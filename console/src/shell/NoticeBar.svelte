<!-- What was done or went wrong, at the foot of the page. Read out by screen readers. -->
<script lang="ts">
  import X from "@lucide/svelte/icons/x";
  import { notices } from "../state/notices.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import IconButton from "../ui/IconButton.svelte";

  const notice = $derived(notices.current);
</script>

<div class="border-base-300 {notice ? 'border-t' : ''}" role={notice?.tone === "wrong" ? "alert" : "status"}>
  {#if notice}
    <div
      class="flex items-center gap-3 px-3 py-2 sm:px-5 {notice.tone === 'wrong'
        ? 'bg-error text-error-content'
        : 'bg-base-200'}"
    >
      <p class="min-w-0 grow text-sm break-words">
        <bdi>{notice.text}</bdi>
        {#if notice.hint}<span class="block">{notice.hint}</span>{/if}
      </p>
      {#if notice.action}<Button look="primary" command="undo" onclick={() => notice.action?.run()}
          >{notice.action.label}</Button
        >{/if}
      <IconButton
        icon={X}
        size={16}
        class="text-inherit"
        name={w().actions.dismiss}
        onclick={() => notices.dismiss()}
      />
    </div>
  {/if}
</div>
