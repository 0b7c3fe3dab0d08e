<!-- Something that is on or off, said as a sentence. -->
<script lang="ts">
  let { label, checked, onchange }: { label: string; checked: boolean; onchange: (checked: boolean) => void } =
    $props();
</script>

<label class="flex items-center gap-2"
  ><input
    type="checkbox"
    class="toggle toggle-sm"
    {checked}
    onchange={(event) => onchange(event.currentTarget.checked)}
  />{label}</label
>
