<!-- Whether copies are kept, in words, and the button that changes it. -->
<script lang="ts">
  import Pause from "@lucide/svelte/icons/pause";
  import Play from "@lucide/svelte/icons/play";
  import { isGuest } from "../lib/api";
  import { clock } from "../lib/format";
  import { noticed } from "../lib/noticed";
  import { service } from "../state/service.svelte";
  import { w } from "../words/index.svelte";
  import Button from "../ui/Button.svelte";
  import Menu from "../ui/Menu.svelte";

  const capture = $derived(service.capture);
  const state = $derived.by(() => {
    const words = w().capture;
    if (!service.live) return words.away;
    if (!capture) return "";
    if (capture.waiting > 0) return words.waiting(capture.waiting);
    if (capture.state === "on") return words.on;
    if (capture.state === "off") return words.off;
    return capture.until ? words.pausedUntil(clock(new Date(capture.until))) : words.isPaused;
  });
  const calm = $derived(service.live && capture?.state === "on" && capture.waiting === 0);
  const notes = $derived([...(capture?.reason ? [capture.reason] : []), ...(capture?.notes ?? [])]);
  const lengths = [300, 1_800, 7_200];
</script>

<p
  class="text-sm {calm ? 'faint' : 'font-semibold text-warning'} min-w-0 truncate"
  role="status"
  title={notes.map(noticed).join("\n") || undefined}
>
  {state}
</p>
{#if isGuest}<span class="sr-only">{w().phone.guest}</span>{:else if capture?.state === "on"}
  <Menu
    label={w().capture.pause}
    items={[
      { name: w().capture.untilResumed, run: () => service.pause() },
      ...lengths.map((seconds) => ({ name: w().capture.pauseFor(seconds), run: () => service.pause(seconds) })),
    ]}
  >
    <Pause size={16} aria-hidden="true" /><span class="max-sm:sr-only">{w().capture.pause}</span>
  </Menu>
{:else if capture?.state === "paused"}
  <Button look="primary" onclick={() => service.resume()}
    ><Play size={16} aria-hidden="true" /><span class="max-sm:sr-only">{w().capture.resume}</span></Button
  >
{/if}
