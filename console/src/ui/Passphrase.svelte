<!-- A field for a passphrase: one that is set, or a new one, which is typed twice. -->
<script lang="ts">
  import { w } from "../words/index.svelte";
  import Field from "./Field.svelte";

  let {
    label,
    value = $bindable(""),
    fresh = false,
    autofocus = false,
    wrong,
  }: {
    label: string;
    value?: string;
    /** Whether it is a new one. */
    fresh?: boolean;
    autofocus?: boolean;
    /** The id of the words that say that it was wrong, if it was. */
    wrong?: string | undefined;
  } = $props();

  let first = $state("");
  let again = $state("");
  $effect(() => {
    // Until both are the same there is none, and a form that requires it waits.
    if (fresh) value = first === again ? first : "";
  });
</script>

{#if fresh}
  <Field {label}
    >{#snippet children(id)}<input
        {id}
        type="password"
        class="input w-full"
        autocomplete="new-password"
        minlength="8"
        maxlength="1024"
        required
        bind:value={first}
      />{/snippet}</Field
  >
  <Field label={w().lock.onceMore}
    >{#snippet children(id)}<input
        {id}
        type="password"
        class="input w-full"
        autocomplete="new-password"
        required
        bind:value={again}
      />{/snippet}</Field
  >
  {#if again && first !== again}<p role="status" class="text-sm">{w().lock.notTheSame}</p>{/if}
{:else}
  <Field {label}
    >{#snippet children(id)}<!-- svelte-ignore a11y_autofocus --><input
        {id}
        type="password"
        class="input w-full"
        autocomplete="current-password"
        aria-invalid={wrong !== undefined}
        aria-describedby={wrong}
        {autofocus}
        required
        bind:value
      />{/snippet}</Field
  >
{/if}
