<!-- Whether copies are kept, in words, and the button that changes it. -->
<script lang="ts">
  import Pause from "@lucide/svelte/icons/pause";
  import Play from "@lucide/svelte/icons/play";
  import { clock } from "../../lib/days";
  import { service } from "../../state/status.svelte";

  const capture = $derived(service.current?.capture);
  const state = $derived.by(() => {
    if (!service.live) return "Not connected";
    if (!capture) return "";
    if (capture.waiting > 0) return `${capture.waiting} waiting to be stored`;
    if (capture.state === "on") return "Keeping copies";
    if (capture.state === "off") return "No clipboard here";
    return capture.until ? `Paused until ${clock(new Date(capture.until))}` : "Paused";
  });
  const calm = $derived(service.live && capture?.state === "on" && capture.waiting === 0);
</script>

{#if capture?.notes.length}
  <p class="faint hidden max-w-72 truncate text-xs lg:block" title={capture.notes.join("\n")}>{capture.notes[0]}</p>
{/if}
<p class="text-sm {calm ? 'faint' : 'font-semibold text-warning'} truncate" role="status" title={capture?.reason ?? undefined}>{state}</p>
{#if capture?.state === "on"}
  <button class="btn btn-sm" onclick={() => service.pause()}><Pause size={16} aria-hidden="true" /><span class="max-sm:sr-only">Pause</span></button>
{:else if capture?.state === "paused"}
  <button class="btn btn-sm btn-primary" onclick={() => service.resume()}><Play size={16} aria-hidden="true" /><span class="max-sm:sr-only">Resume</span></button>
{/if}
