<script setup lang="ts">
// A time: relative to read, absolute with its zone for whoever looks closer (and always for screen readers).
import { computed } from "vue";
import { ago, full, now } from "@/ui/use/times";

const props = defineProps<{ at: string | null | undefined; missing?: string }>();
const said = computed(() => (props.at ? ago(props.at, now.value) : ""));
</script>

<template>
  <time v-if="at" :datetime="at" :title="full(at)">{{ said }}</time>
  <span v-else class="soft">{{ missing ?? "never" }}</span>
</template>
