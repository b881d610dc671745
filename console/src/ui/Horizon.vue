<script setup lang="ts">
// A year of ends on one line: a mark per credential, stacked by week, today at the left edge.
import { computed } from "vue";
import type { Schemas } from "@/api/client";
import { ago, day } from "@/ui/use/times";

const props = defineProps<{ ends: Schemas["Ending"][]; at: number }>();
const WIDTH = 1080;
const WEEK = 7 * 86_400_000;
const WEEKS = 53;
const STEP = WIDTH / WEEKS;
const ROWS = 6;
const BASE = 78;

const marks = computed(() => {
  const filled = new Map<number, number>();
  return props.ends.flatMap((one) => {
    const week = Math.floor((Date.parse(one.ends) - props.at) / WEEK);
    if (week < 0 || week >= WEEKS) return [];
    const row = filled.get(week) ?? 0;
    filled.set(week, row + 1);
    const soon = Date.parse(one.ends) - props.at < 2 * WEEK;
    return row < ROWS ? [{ one, x: week * STEP + 2, y: BASE - 12 - row * 12, soon }] : [];
  });
});
const months = computed(() => {
  const first = new Date(props.at);
  return Array.from({ length: 12 }, (_, place) => {
    const start = new Date(first.getFullYear(), first.getMonth() + 1 + place, 1);
    const x = ((start.getTime() - props.at) / (WEEKS * WEEK)) * WIDTH;
    return {
      x,
      label: start.toLocaleString("en-GB", { month: "short" }) + (start.getMonth() === 0 ? ` ${start.getFullYear()}` : ""),
    };
  });
});
</script>

<template>
  <figure class="card">
    <svg :viewBox="`0 0 ${WIDTH} 100`" role="group" aria-label="Secrets by the day they expire">
      <line class="axis" x1="0" :x2="WIDTH" :y1="BASE" :y2="BASE" />
      <g v-for="month in months" :key="month.x">
        <line class="tick" :x1="month.x" :x2="month.x" y1="8" :y2="BASE + 5" />
        <text :x="month.x + 4" y="95">{{ month.label }}</text>
      </g>
      <line class="today" x1="1" x2="1" y1="4" :y2="BASE + 8" />
      <text x="6" y="14" class="now">today</text>
      <RouterLink
        v-for="mark in marks"
        :key="mark.one.hint + mark.x"
        v-slot="{ href, navigate }"
        :to="{ name: 'dossier', params: { id: mark.one.client_id } }"
        custom
      >
        <a :href="href" @click="navigate">
          <title>
            {{ mark.one.client_name }}: {{ mark.one.hint }} expires {{ ago(mark.one.ends, at) }},
            {{ day(mark.one.ends) }}
          </title>
          <rect :class="{ soon: mark.soon }" :x="mark.x" :y="mark.y" :width="STEP - 4" height="10" />
        </a>
      </RouterLink>
    </svg>
    <figcaption class="small soft">
      <span class="key soon"></span> within two weeks <span class="key"></span> later
      <template v-if="!marks.length"> · no credential expires within a year</template>
    </figcaption>
  </figure>
</template>

<style scoped>
svg {
  width: 100%;
  height: auto;
  display: block;
  overflow: visible;
}
.axis {
  stroke: var(--ink);
  stroke-width: 1.5;
}
.tick {
  stroke: var(--line);
}
.today {
  stroke: var(--focus);
  stroke-width: 2;
}
text {
  fill: var(--ink-soft);
  font: 12px var(--sans);
}
.now {
  fill: var(--focus);
  font-weight: 600;
}
rect {
  fill: var(--bar-granted);
}
rect.soon {
  fill: var(--broken);
}
a:hover rect {
  stroke: var(--ink);
  stroke-width: 1.5;
}
figcaption {
  margin-top: var(--s1);
}
.key {
  display: inline-block;
  width: 16px;
  height: 9px;
  background: var(--bar-granted);
  margin: 0 3px 0 var(--s2);
}
.key.soon {
  background: var(--broken);
  margin-left: 0;
}
</style>
