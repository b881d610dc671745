<script setup lang="ts">
// How a share went, day by day: a line over a base, first and last day beneath.
import { computed } from "vue";
import { day } from "@/ui/use/times";
import { t } from "@/texts/sentences";

const props = defineProps<{
  points: { day: string; share: number | null }[];
  label: string;
  wide?: number;
  tall?: number;
  bare?: boolean;
}>();
const WIDE = computed(() => props.wide ?? 220);
const TALL = computed(() => props.tall ?? 40);
const known = computed(() => props.points.filter((one) => one.share !== null) as { day: string; share: number }[]);
const line = computed(() => {
  const last = Math.max(known.value.length - 1, 1);
  return known.value
    .map((one, place) => `${((WIDE.value * place) / last).toFixed(1)},${(2 + (TALL.value - 4) * (1 - one.share)).toFixed(1)}`)
    .join(" ");
});
const said = computed(() => {
  const [first, last] = [known.value[0], known.value.at(-1)];
  return first && last
    ? t`${props.label}: ${Math.round(100 * first.share)} % on ${day(first.day)}, ${Math.round(100 * last.share)} % on ${day(last.day)}`
    : t`${props.label}: not known yet`;
});
</script>

<template>
  <component :is="bare ? 'span' : 'figure'" class="trend">
    <svg :viewBox="`0 0 ${WIDE} ${TALL}`" :width="WIDE" :height="TALL" role="img" :aria-label="said" preserveAspectRatio="none">
      <line x1="0" :x2="WIDE" :y1="TALL - 1" :y2="TALL - 1" />
      <polyline v-if="known.length > 1" :points="line" />
    </svg>
    <figcaption v-if="known.length && !bare" class="small soft">
      <span>{{ day(known[0]!.day) }}</span><span>{{ day(known.at(-1)!.day) }}</span>
    </figcaption>
  </component>
</template>

<style scoped>
.trend {
  display: grid;
  gap: 2px;
  width: max-content;
  max-width: 100%;
}
line {
  stroke: var(--line-strong);
}
polyline {
  fill: none;
  stroke: var(--bar-used);
  stroke-width: 2;
  vector-effect: non-scaling-stroke;
}
figcaption {
  display: flex;
  justify-content: space-between;
}
</style>
