<script setup lang="ts">
// Asked, granted, used in one line: three bars on one scale, and the numbers.
import { computed } from "vue";
import { t } from "@/texts/sentences";

const props = defineProps<{ asked: number; granted: number; used: number }>();
const WIDTH = 44;
const most = computed(() => Math.max(props.asked, props.granted, 1));
const length = (count: number) => (WIDTH * count) / most.value;
const said = computed(() => t`${props.asked} asked, ${props.granted} granted, ${props.used} used`);
</script>

<template>
  <span class="ladder-bar">
    <svg :width="WIDTH" height="16" role="img" :aria-label="said">
      <rect class="asked" y="1" height="4" :width="length(asked)" />
      <rect class="granted" y="6" height="4" :width="length(granted)" />
      <rect class="used" y="11" height="4" :width="length(used)" />
    </svg>
    <span aria-hidden="true" class="numbers">{{ asked }} · {{ granted }} · {{ used }}</span>
  </span>
</template>

<style scoped>
.ladder-bar {
  display: inline-flex;
  align-items: center;
  gap: var(--s2);
  white-space: nowrap;
}
.asked {
  fill: var(--bar-asked);
}
.granted {
  fill: var(--bar-granted);
}
.used {
  fill: var(--bar-used);
}
.numbers {
  font-size: var(--t-small);
}
</style>
