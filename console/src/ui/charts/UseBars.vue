<script setup lang="ts">
// Calls a day over the last thirty days, today at the right.
import { computed } from "vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ calls: number[] }>();
const most = computed(() => Math.max(...props.calls, 1));
const total = computed(() => props.calls.reduce((sum, one) => sum + one, 0));
const bars = computed(() => props.calls.map((one, place) => ({ x: place * 4, height: one ? Math.max(2, (18 * one) / most.value) : 0 })));
</script>

<template>
  <svg :width="calls.length * 4" height="20" role="img" :aria-label="t`${total} calls in the last ${calls.length} days`">
    <line x1="0" :x2="calls.length * 4" y1="19.5" y2="19.5" />
    <rect v-for="(bar, place) in bars" :key="place" :x="bar.x" :y="19 - bar.height" width="3" :height="bar.height" />
  </svg>
</template>

<style scoped>
rect {
  fill: var(--bar-used);
}
line {
  stroke: var(--line-strong);
}
</style>
