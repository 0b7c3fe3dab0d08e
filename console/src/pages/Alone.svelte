<!-- One clip by itself, at an address of its own. -->
<script lang="ts">
  import * as api from "../lib/api";
  import { extent, line } from "../lib/clips";
  import { href, router } from "../lib/router.svelte";
  import { frame } from "../state/commands.svelte";
  import { hear } from "../state/live";
  import { w } from "../words/index.svelte";
  import { ClipList, giveList } from "../list/list.svelte";
  import Page from "../ui/Page.svelte";
  import Unfolded from "../entry/Unfolded.svelte";
  import { sentence } from "../lib/problems";

  const id = $derived(router.route.what);
  const list = giveList(new ClipList({ fetch: async () => ({ clips: [], total: 0 }) }));
  let failed = $state<unknown>();

  async function load(wanted: string) {
    try {
      const detail = await api.show(wanted);
      list.clips = [detail];
      list.active = list.unfolded = detail.id;
      list.detail = detail;
      failed = undefined;
    } catch (error) {
      list.clips = [];
      list.detail = undefined;
      failed = error;
    }
  }

  $effect(() => {
    const wanted = id;
    void load(wanted);
    frame.list = list;
    const end = hear({
      clip: (change) => change.id === list.active && void load(wanted),
      reload: () => void load(wanted),
    });
    return () => {
      end();
      if (frame.list === list) frame.list = undefined;
    };
  });
  const clip = $derived(list.clips[0]);
</script>

<Page title={clip ? (clip.title ?? w().clips.kinds[clip.kind]) : w().entry.one} about={clip ? extent(clip) : undefined}>
  {#if failed}
    <p role="alert">{sentence(failed)}</p>
    <p><a class="text-primary underline" href={href({})}>{w().entry.toLedger}</a></p>
  {:else if clip}
    <p class="sr-only">{line(clip)}</p>
    <div class="-mx-4"><Unfolded {clip} detail={list.detail} /></div>
  {/if}
</Page>
