<!-- A button that is a picture only; its name is said, and shown when one rests on it. -->
<script lang="ts">
  import type { Component } from "svelte";
  import type { HTMLButtonAttributes } from "svelte/elements";

  type Props = HTMLButtonAttributes & { icon: Component; name: string; size?: number };
  let { icon: Icon, name, size = 18, class: more = "", ...rest }: Props = $props();
</script>

<button type="button" class="btn btn-ghost btn-square btn-sm {more}" aria-label={name} title={name} {...rest}>
  <Icon {size} aria-hidden="true" />
</button>
