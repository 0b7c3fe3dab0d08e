<!-- What is kept, how it grows, what is reused: as plots, and as tables. -->
<script lang="ts">
  import * as api from "../lib/api";
  import { line } from "../lib/clips";
  import { number, size, span } from "../lib/format";
  import { href } from "../lib/router.svelte";
  import { Resource } from "../state/resource.svelte";
  import { service } from "../state/service.svelte";
  import { w } from "../words/index.svelte";
  import Page from "../ui/Page.svelte";
  import Plot from "../ui/Plot.svelte";
  import Section from "../ui/Section.svelte";

  const stats = new Resource(api.stats, { clips: true, status: true });
  $effect(() => stats.watch());
  const is = $derived(stats.value);
  const used = $derived((is?.most_used ?? []).filter((clip) => clip.recalls > 0));
  const room = $derived(service.status.value?.room ?? []);
  const name = (share: { name: string }) =>
    share.name in w().clips.kinds ? w().rules.kinds[share.name as api.Kind] : share.name;
</script>

{#snippet shares(title: string, of: { name: string; count: number; bytes: number }[])}
  {@const most = Math.max(1, ...of.map((share) => share.count))}
  <table class="w-full text-sm">
    <caption class="mb-1 text-left font-semibold">{title}</caption>
    <thead class="faint text-left"
      ><tr
        ><th class="font-normal">{w().figures.name}</th><th class="text-right font-normal">{w().figures.clips}</th><th
          class="pl-4 text-right font-normal">{w().figures.size}</th
        ></tr
      ></thead
    >
    <tbody>
      {#each of as share (share.name)}
        <tr class="border-t border-base-300">
          <th scope="row" class="py-1 pr-3 text-left font-normal"
            ><bdi>{name(share)}</bdi><span
              class="mt-0.5 block h-1 rounded-full bg-primary"
              style:width="{(100 * share.count) / most}%"
              aria-hidden="true"
            ></span></th
          >
          <td class="text-right tabular-nums">{number(share.count)}</td><td
            class="pl-4 text-right whitespace-nowrap tabular-nums">{size(share.bytes)}</td
          >
        </tr>
      {/each}
    </tbody>
  </table>
{/snippet}

<Page title={w().pages.figures} about={w().figures.about}>
  {#if is}
    <dl class="grid grid-cols-2 gap-x-6 gap-y-4 sm:grid-cols-3 lg:grid-cols-6">
      {#each [[w().figures.inHistory, number(is.count)], [w().figures.kept, number(is.kept)], [w().figures.inBin, number(is.in_bin)], [w().figures.content, size(is.bytes)], [w().figures.onDisk, is.bytes_on_disk == null ? "–" : size(is.bytes_on_disk)], [w().figures.saved, span(Math.max(0, is.saved.seconds))]] as [term, value] (term)}
        <div>
          <dt class="faint text-sm">{term}</dt>
          <dd class="ledger-face text-2xl tabular-nums">{value}</dd>
        </div>
      {/each}
    </dl>
    <p class="faint text-sm">{w().figures.savedHow(number(is.saved.recalls), number(is.saved.switches))}</p>
    <Section title={w().figures.days}>
      <Plot days={is.days} />
      <details class="mt-3">
        <summary class="cursor-pointer text-sm">{w().figures.asTable}</summary>
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <div class="mt-2 max-h-80 overflow-auto" tabindex="0" role="region" aria-label={w().figures.days}>
          <table class="w-full text-right text-sm tabular-nums">
            <thead class="faint"
              ><tr
                ><th class="text-left font-normal">{w().figures.day}</th><th class="font-normal"
                  >{w().figures.captured}</th
                ><th class="font-normal">{w().figures.recalled}</th><th class="font-normal">{w().figures.deleted}</th
                ><th class="font-normal">{w().figures.swept}</th><th class="font-normal">{w().figures.size}</th></tr
              ></thead
            >
            <tbody>
              {#each [...is.days].reverse() as day (day.day)}
                <tr class="border-t border-base-300"
                  ><th scope="row" class="py-1 text-left font-normal">{day.day}</th><td>{number(day.captured)}</td><td
                    >{number(day.recalled)}</td
                  ><td>{number(day.cleared)}</td><td>{number(day.swept)}</td><td>{size(day.bytes)}</td></tr
                >
              {/each}
            </tbody>
          </table>
        </div>
      </details>
    </Section>
    <div class="grid gap-8 md:grid-cols-2">
      <Section title={w().figures.what}
        >{@render shares(w().figures.kinds, is.kinds)}
        <div class="mt-6">{@render shares(w().figures.applications, is.applications.slice(0, 12))}</div></Section
      >
      <Section title={w().figures.reused}>
        {#if used.length === 0}<p class="faint text-sm">{w().figures.nothingReused}</p>{/if}
        <ol class="space-y-1 text-sm">
          {#each used as clip (clip.id)}
            <li class="flex justify-between gap-4 border-b border-base-300 py-1">
              <a class="min-w-0 truncate hover:underline" href={href({ page: "clip", what: clip.id })}
                ><bdi>{clip.title ?? line(clip)}</bdi></a
              ><span class="faint shrink-0">{w().figures.recalls(clip.recalls)}</span>
            </li>
          {/each}
        </ol>
        <h3 class="mt-8 font-semibold">{w().figures.room}</h3>
        {#each room as one (one.kind ?? "")}
          <p class="mt-2 text-sm">
            {one.kind ? w().rules.kinds[one.kind] : w().figures.all}: {w().figures.roomOf(
              number(one.count),
              number(one.clip_limit),
              size(one.bytes),
              size(one.limit),
            )}
          </p>
          <meter
            class="mt-1 block w-full"
            min="0"
            max="1"
            value={Math.max(one.count / Math.max(1, one.clip_limit), one.bytes / Math.max(1, one.limit))}
            aria-label={one.kind ? w().rules.kinds[one.kind] : w().figures.all}
          ></meter>
        {/each}
      </Section>
    </div>
  {/if}
</Page>
