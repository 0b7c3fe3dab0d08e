<!-- What was done or went wrong, at the foot of the page. Read out by screen readers. -->
<script lang="ts">
  import X from "@lucide/svelte/icons/x";
  import { notices } from "../../state/notice.svelte";

  const notice = $derived(notices.current);
</script>

<div class="border-base-300 {notice ? 'border-t' : ''}" role={notice?.tone === "wrong" ? "alert" : "status"}>
  {#if notice}
    <div class="flex items-center gap-3 px-3 py-2 sm:px-5 {notice.tone === 'wrong' ? 'bg-error text-error-content' : 'bg-base-200'}">
      <p class="min-w-0 grow text-sm break-words">
        {notice.text}
        {#if notice.hint}<span class="block opacity-90">{notice.hint}</span>{/if}
      </p>
      {#if notice.action}
        <button class="btn btn-primary btn-sm" onclick={() => notice.action?.run()}>{notice.action.label}</button>
      {/if}
      <button class="btn btn-ghost btn-square btn-sm" onclick={() => notices.dismiss()} aria-label="Dismiss"><X size={16} /></button>
    </div>
  {/if}
</div>
