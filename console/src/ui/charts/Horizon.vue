<script setup lang="ts">
// A year of ends on one line: a mark per credential, stacked by week, today at the left edge; what does not fit is counted.
// Beneath it the rotations under way, each for as long as both credentials work.
import { computed } from "vue";
import type { Schemas } from "@/api/client";
import { ago, day } from "@/ui/use/times";
import { figure } from "@/ui/use/words";
import { tag } from "@/texts/sentences";

const props = defineProps<{ weeks: Schemas["WeekOfEndings"][]; overlaps: Schemas["Overlap"][]; overlapsInAll: number; at: number }>();
const WIDTH = 1080;
const DAYS = 7;
const WEEK = DAYS * 86_400_000;
const WEEKS = 53;
const STEP = WIDTH / WEEKS;
const BASE = 90;
const SPANS = 4;

const marks = computed(() =>
  props.weeks.flatMap((week) =>
    week.first.map((one, row) => ({ one, x: week.week * STEP + 2, y: BASE - 12 - row * 12, soon: week.week < 2 })),
  ),
);
const further = computed(() =>
  props.weeks
    .filter((week) => week.credentials > week.first.length)
    .map((week) => ({
      week: week.week,
      more: week.credentials - week.first.length,
      x: (week.week + 0.5) * STEP,
      y: BASE - 4 - 12 * week.first.length,
      days: (week.week + 1) * DAYS,
    })),
);
const total = computed(() => props.weeks.reduce((sum, week) => sum + week.credentials, 0));
const x = (moment: string) => Math.min(Math.max(((Date.parse(moment) - props.at) / (WEEKS * WEEK)) * WIDTH, 0), WIDTH);
// Each in the first row that is free by then.
const spans = computed(() => {
  const until: number[] = [];
  return props.overlaps.flatMap((one) => {
    const from = x(one.opened_at);
    const to = Math.max(x(one.overlap_ends_at), from + 6);
    const free = until.findIndex((end) => end + 3 <= from);
    const row = free < 0 ? until.length : free;
    if (row >= SPANS) return [];
    until[row] = to;
    return [{ one, from, width: to - from, row }];
  });
});
const tall = computed(() => BASE + 24 + 10 * Math.max(0, ...spans.value.map((one) => one.row + 1)));
const months = computed(() => {
  const first = new Date(props.at);
  return Array.from({ length: 12 }, (_, place) => {
    const start = new Date(first.getFullYear(), first.getMonth() + 1 + place, 1);
    return {
      x: ((start.getTime() - props.at) / (WEEKS * WEEK)) * WIDTH,
      label: start.toLocaleString(tag(), { month: "short" }) + (start.getMonth() === 0 ? ` ${start.getFullYear()}` : ""),
    };
  });
});
</script>

<template>
  <figure class="card">
    <div class="year" tabindex="0" role="region" aria-label="A year of expiries">
      <svg :viewBox="`0 0 ${WIDTH} ${tall}`" role="group" aria-label="Credentials by the week in which they expire">
        <line class="axis" x1="0" :x2="WIDTH" :y1="BASE" :y2="BASE" />
        <g v-for="month in months" :key="month.x">
          <line class="tick" :x1="month.x" :x2="month.x" y1="8" :y2="BASE + 5" />
          <text :x="month.x + 4" :y="BASE + 17">{{ month.label }}</text>
        </g>
        <line class="today" x1="1" x2="1" y1="4" :y2="tall" />
        <text x="6" y="14" class="now">today</text>
        <RouterLink
          v-for="mark in marks"
          :key="mark.one.client_id + mark.one.hint"
          v-slot="{ href, navigate }"
          :to="{ name: 'dossier', params: { id: mark.one.client_id } }"
          custom
        >
          <a :href="href" @click="navigate">
            <title>{{ mark.one.client_name }}: {{ mark.one.hint }} expires {{ ago(mark.one.ends, at) }}, {{ day(mark.one.ends) }}</title>
            <rect :class="{ soon: mark.soon }" :x="mark.x" :y="mark.y" :width="STEP - 4" height="10" />
          </a>
        </RouterLink>
        <RouterLink
          v-for="one in further"
          :key="one.week"
          v-slot="{ href, navigate }"
          :to="{ name: 'rotation', query: { within: one.days } }"
          custom
        >
          <a :href="href" @click="navigate">
            <title>{{ figure(one.more) }} more expire in this week: what expires within {{ one.days }} days</title>
            <text class="more" :x="one.x" :y="one.y" text-anchor="middle">+{{ figure(one.more) }}</text>
          </a>
        </RouterLink>
        <RouterLink
          v-for="span in spans"
          :key="span.one.client_id + span.one.hint"
          v-slot="{ href, navigate }"
          :to="{ name: 'rotation' }"
          custom
        >
          <a :href="href" @click="navigate">
            <title>
              {{ span.one.client_name }}: rotation of {{ span.one.hint }}, both credentials work until {{ day(span.one.overlap_ends_at) }}
            </title>
            <rect class="span" :x="span.from" :y="BASE + 22 + span.row * 10" :width="span.width" height="6" rx="3" />
          </a>
        </RouterLink>
      </svg>
    </div>
    <figcaption class="small soft">
      <template v-if="total">
        <span class="key soon"></span> expires within two weeks <span class="key"></span> later <span class="key span"></span> a rotation,
        while both credentials work<template v-if="overlapsInAll > spans.length">
          ({{ figure(spans.length) }} of {{ figure(overlapsInAll) }})</template
        >
      </template>
      <template v-else>no credential expires within a year</template>
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
@media (max-width: 860px) {
  .year {
    position: relative;
    overflow-x: auto;
  }
  svg {
    min-width: 720px;
  }
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
rect.span {
  fill: var(--wait);
}
.more {
  font-size: 11px;
  fill: var(--ink);
  font-weight: 600;
}
a:hover .more {
  text-decoration: underline;
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
.key.span {
  height: 6px;
  border-radius: 3px;
  background: var(--wait);
}
.key.soon {
  background: var(--broken);
  margin-left: 0;
}
</style>
