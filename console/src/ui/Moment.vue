<script setup lang="ts">
// A time: how long ago, with its clock and zone for whoever looks closer; or as of the clock, for whoever chose that.
import { computed } from "vue";
import { say } from "@/texts";
import { ago, full, now, shown } from "@/ui/use/times";

const props = defineProps<{ at: string | null | undefined; missing?: string }>();
const said = computed(() => {
  const both = props.at ? [ago(props.at, now.value), full(props.at)] : ["", ""];
  return shown.value === "ago" ? both : both.reverse();
});
</script>

<template>
  <time v-if="at" :datetime="at" :title="said[1]" :class="{ exact: shown !== 'ago' }">{{ said[0] }}</time>
  <span v-else class="soft">{{ missing ?? say("shared.never") }}</span>
</template>

<style scoped>
/* Longer than the columns were made for: it may break. */
.exact {
  white-space: normal;
}
</style>
