<script setup lang="ts">
// A state: always a word and a shape, the colour only repeats it.
import { computed } from "vue";

type Tone = "live" | "wait" | "broken" | "gone";
const props = defineProps<{ tone: Tone; word: string }>();
const SHAPES: Record<Tone, string> = { live: "●", wait: "◐", broken: "▲", gone: "○" };
const shape = computed(() => SHAPES[props.tone]);
</script>

<template>
  <span class="state" :class="tone"
    ><span aria-hidden="true">{{ shape }}</span> {{ word }}</span
  >
</template>

<style scoped>
.state {
  white-space: nowrap;
  font-weight: 560;
}
.state > span {
  font-size: 0.75em;
  vertical-align: 0.1em;
}
.live {
  color: var(--live);
}
.wait {
  color: var(--wait);
}
.broken {
  color: var(--broken);
}
.gone {
  color: var(--resolved);
}
</style>
