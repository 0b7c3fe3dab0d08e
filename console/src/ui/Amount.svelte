<!-- An amount of bytes, time or things, as a number and a unit, within a sentence. -->
<script lang="ts" module>
  export const UNITS = {
    bytes: [
      ["kB", 1 << 10],
      ["MB", 1 << 20],
      ["GB", 1 << 30],
    ],
    seconds: [
      ["minutes", 60],
      ["hours", 3_600],
      ["days", 86_400],
    ],
    millis: [
      ["milliseconds", 1],
      ["seconds", 1_000],
    ],
    count: [["clips", 1]],
  } as const;

  /** The largest unit in which an amount is a whole number; else the smallest. */
  export function unitOf(kind: keyof typeof UNITS, value: number): readonly [string, number] {
    const units: readonly (readonly [string, number])[] = UNITS[kind];
    return units.findLast(([, size]) => value >= size && value % size === 0) ?? units[0] ?? ["", 1];
  }
</script>

<script lang="ts">
  import { untrack } from "svelte";
  import { w } from "../words/index.svelte";

  type Props = {
    label: string;
    unit: keyof typeof UNITS;
    value: number;
    min?: number;
    onchange: (value: number) => void;
  };
  let { label, unit, value, min = 0, onchange }: Props = $props();
  const units: readonly (readonly [string, number])[] = $derived(UNITS[unit]);
  let size = $state(untrack(() => unitOf(unit, value)[1]));
  const id = $props.id();
  const shown = $derived(Number((value / size).toFixed(2)));

  function put(text: string) {
    const number = Number(text);
    if (text.trim() !== "" && Number.isFinite(number) && number >= min) onchange(Math.round(number * size));
  }
</script>

<p class="flex flex-wrap items-center gap-2">
  <label for={id}>{label}</label>
  <input
    {id}
    type="number"
    {min}
    step="any"
    class="input input-sm w-24"
    value={shown}
    onchange={(event) => put(event.currentTarget.value)}
  />
  {#if units.length > 1}
    <select
      class="select select-sm w-auto"
      aria-label={w().amounts.unit(label)}
      bind:value={size}
      onchange={() => onchange(Math.round(shown * size))}
    >
      {#each units as [name, each] (name)}<option value={each}>{w().amounts.units[name]}</option>{/each}
    </select>
  {:else}<span>{w().amounts.units[units[0]?.[0] ?? ""]}</span>{/if}
</p>
