<!-- A few things of which each is chosen or not. -->
<script lang="ts" generics="T extends string">
  type Props = {
    legend: string;
    all: readonly T[];
    names: Record<T, string>;
    chosen: readonly T[];
    ontoggle: (one: T) => void;
  };
  let { legend, all, names, chosen, ontoggle }: Props = $props();
</script>

<fieldset>
  <legend>{legend}</legend>
  <div class="mt-1 flex flex-wrap gap-4">
    {#each all as one (one)}
      <label class="flex items-center gap-2"
        ><input type="checkbox" checked={chosen.includes(one)} onchange={() => ontoggle(one)} />{names[one]}</label
      >
    {/each}
  </div>
</fieldset>
