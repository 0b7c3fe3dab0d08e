<!-- Copies and recalls of each day, as lines. The same stands in a table beside. -->
<script lang="ts">
  import { onMount } from "svelte";
  import type UPlot from "uplot";
  import type { Stats } from "../lib/api";
  import { language, w } from "../words/index.svelte";
  import { preferences } from "../state/preferences.svelte";

  let { days }: { days: Stats["days"] } = $props();
  let holder = $state<HTMLElement>();
  let plot: UPlot | undefined;
  let make = $state.raw<typeof UPlot>();

  /** Every day from the first to the last, also those on which nothing happened. */
  function filled(): [number[], number[], number[]] {
    const by = new Map(days.map((day) => [day.day, day]));
    const at = (day: string) => Date.parse(`${day}T00:00:00Z`) / 1000;
    const [first, last] = [days[0], days.at(-1)];
    if (!first || !last) return [[], [], []];
    const times: number[] = [];
    for (let time = at(first.day); time <= at(last.day); time += 86_400) times.push(time);
    const of = (time: number) => by.get(new Date(time * 1000).toISOString().slice(0, 10));
    return [times, times.map((time) => of(time)?.captured ?? 0), times.map((time) => of(time)?.recalled ?? 0)];
  }

  onMount(() => {
    void Promise.all([import("uplot"), import("uplot/dist/uPlot.min.css")]).then(([module]) => (make = module.default));
    const watch = new ResizeObserver(() => holder && plot?.setSize({ width: holder.clientWidth, height: 220 }));
    if (holder) watch.observe(holder);
    return () => {
      watch.disconnect();
      plot?.destroy();
    };
  });

  $effect(() => {
    // Colours are those of the theme.
    void preferences.theme;
    if (!make || !holder) return;
    plot?.destroy();
    const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
    const axis = {
      stroke: colour("--color-neutral"),
      grid: { stroke: colour("--color-base-300"), width: 1 },
      ticks: { show: false },
    };
    const month = new Intl.DateTimeFormat(language.locale, { day: "numeric", month: "short", timeZone: "UTC" });
    plot = new make(
      {
        width: holder.clientWidth,
        height: 220,
        cursor: { drag: { x: false, y: false } },
        legend: { live: true },
        tzDate: (time) => new Date(time * 1000),
        scales: { y: { range: (_, __, most) => [0, Math.max(4, most)] } },
        series: [
          { label: w().figures.day, value: (_, time) => (time == null ? "–" : month.format(time * 1000)) },
          {
            label: w().figures.captured,
            stroke: colour("--color-primary"),
            width: 2,
            points: { show: days.length < 40 },
          },
          {
            label: w().figures.recalled,
            stroke: colour("--color-secondary"),
            width: 2,
            dash: [6, 4],
            points: { show: days.length < 40 },
          },
        ],
        axes: [
          { ...axis, values: (_, times) => times.map((time) => month.format(time * 1000)) },
          { ...axis, incrs: [1, 2, 5, 10, 20, 50, 100, 200, 500, 1_000] },
        ],
      },
      filled(),
      holder,
    );
  });
</script>

<div bind:this={holder} class="plot h-64 w-full" role="img" aria-label={w().figures.plot}></div>
