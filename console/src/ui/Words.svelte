<!-- A list of words that a person keeps: each can be taken out, and more can be put in. -->
<script lang="ts">
  import X from "@lucide/svelte/icons/x";
  import { w } from "../words/index.svelte";
  import Button from "./Button.svelte";
  import IconButton from "./IconButton.svelte";

  type Props = { label: string; help?: string; values: string[]; mono?: boolean; onchange: (values: string[]) => void };
  let { label, help, values, mono = false, onchange }: Props = $props();
  let fresh = $state("");
  const id = $props.id();

  function put(event: SubmitEvent) {
    event.preventDefault();
    const value = fresh.trim();
    if (value && !values.includes(value)) onchange([...values, value]);
    fresh = "";
  }
</script>

<div>
  <label for={id}>{label}</label>
  {#if help}<p id="help-{id}" class="faint text-sm">{help}</p>{/if}
  {#if values.length > 0}
    <ul class="mt-1 flex flex-wrap gap-1.5">
      {#each values as value (value)}
        <li class="flex items-center rounded-sm border border-base-300 pl-2 text-sm">
          <bdi class="break-all {mono ? 'font-mono' : ''}">{value}</bdi><IconButton
            icon={X}
            size={13}
            class="btn-xs"
            name={w().actions.takeOut(value)}
            onclick={() => onchange(values.filter((other) => other !== value))}
          />
        </li>
      {/each}
    </ul>
  {/if}
  <form class="mt-1.5 flex max-w-md gap-2" onsubmit={put}>
    <input
      {id}
      class="input input-sm grow {mono ? 'font-mono' : ''}"
      aria-describedby={help ? `help-${id}` : undefined}
      bind:value={fresh}
      autocapitalize="off"
      spellcheck="false"
    />
    <Button type="submit">{w().actions.add}</Button>
  </form>
</div>
