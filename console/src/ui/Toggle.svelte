<!-- Something that is on or off, said as a sentence. -->
<script lang="ts">
  let { label, checked, onchange }: { label: string; checked: boolean; onchange: (checked: boolean) => unknown } =
    $props();

  /** Shows how it is once the change was made, or was not. */
  async function change(field: HTMLInputElement) {
    await onchange(field.checked);
    field.checked = checked;
  }
</script>

<label class="flex items-center gap-2"
  ><input
    type="checkbox"
    class="toggle toggle-sm"
    {checked}
    onchange={(event) => change(event.currentTarget)}
  />{label}</label
>
