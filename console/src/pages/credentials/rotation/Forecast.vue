<script setup lang="ts">
// The rotations of the coming year by week: under the policy, and beside it under another.
import { computed, ref } from "vue";
import type { Schemas } from "@/api/client";
import { type OtherPolicy, useForecast } from "@/api/reads/credentials";
import { useDirectory } from "@/api/reads/directory";
import ProblemNote from "@/ui/ProblemNote.vue";
import { day } from "@/ui/use/times";
import { figure } from "@/ui/use/words";
import { t, tag } from "@/texts/sentences";

const open = ref(false);
const { data: place } = useDirectory();
// What was typed; empty: as the policy has it.
const typed = ref({ secret_default_days: "", key_default_days: "", warn_days: "" });
const FIELDS = [
  { name: "secret_default_days", label: t`Secret lifetime`, most: 3650 },
  { name: "key_default_days", label: t`Key lifetime`, most: 3650 },
  { name: "warn_days", label: t`Opened before expiry`, most: 365 },
] as const;
const other = computed<OtherPolicy | null>(() => {
  const said = FIELDS.flatMap(({ name, most }) => {
    const days = Math.round(Number(typed.value[name]));
    return typed.value[name] !== "" && days >= 1 && days <= most ? [[name, days] as const] : [];
  });
  return said.length ? (Object.fromEntries(said) as OtherPolicy) : null;
});
const { data: weeks, error } = useForecast(() => null, open);
const { data: beside, error: wrong } = useForecast(other, () => open.value && other.value !== null);
const sum = (list: Schemas["Week"][]) => list.reduce((total, one) => total + one.due, 0);
const shown = computed(() => (other.value ? beside.value : undefined));
const most = computed(() => Math.max(1, ...[...(weeks.value ?? []), ...(shown.value ?? [])].map((one) => one.due)));
const WIDE = 17;
const TALL = 92;
const tall = (count: number) => (count ? Math.max(2, (TALL * count) / most.value) : 0);
const busiest = computed(() => [...(weeks.value ?? [])].sort((one, another) => another.due - one.due)[0]);
const months = computed(() => {
  const begin = (weeks.value ?? []).flatMap((one, at, list) =>
    at && one.begins.slice(0, 7) === list[at - 1]!.begins.slice(0, 7)
      ? []
      : [{ x: at * WIDE, name: new Date(`${one.begins}T00:00:00Z`).toLocaleString(tag(), { month: "short", timeZone: "UTC" }) }],
  );
  // Of a month that ends at once there is no room for its name.
  return begin.filter((one, at) => (begin[at + 1]?.x ?? Infinity) - one.x >= 2 * WIDE);
});
</script>

<template>
  <details class="ahead" @toggle="open = ($event.target as HTMLDetailsElement).open">
    <summary><h2>The year ahead</h2></summary>
    <ProblemNote v-if="error ?? wrong" :error="error ?? wrong" />
    <p v-if="!weeks && !error" class="soft" role="status">Reading …</p>
    <template v-else-if="weeks">
      <p>
        <strong>{{ figure(sum(weeks)) }}</strong> rotations in a year<template v-if="busiest?.due"
          >; the most, {{ figure(busiest.due) }}, in the week of {{ day(busiest.begins) }}</template
        ><template v-if="shown"
          >. Under the other policy <strong>{{ figure(sum(shown)) }}</strong></template
        >.
      </p>
      <div class="drawing" tabindex="0" role="region" aria-label="Rotations by week">
        <svg
          :width="weeks.length * WIDE"
          :height="TALL + 22"
          role="img"
          :aria-label="t`Rotations by week: ${weeks.map((one) => one.due).join(', ')}`"
        >
          <line x1="0" :x2="weeks.length * WIDE" :y1="TALL + 0.5" :y2="TALL + 0.5" />
          <template v-for="(one, at) in weeks" :key="one.begins">
            <rect class="now" :x="at * WIDE" :y="TALL - tall(one.due)" :width="shown ? 6 : 12" :height="tall(one.due)">
              <title>Week of {{ day(one.begins) }}: {{ one.due }}</title>
            </rect>
            <rect
              v-if="shown?.[at]"
              class="other"
              :x="at * WIDE + 7"
              :y="TALL - tall(shown[at]!.due)"
              width="6"
              :height="tall(shown[at]!.due)"
            />
          </template>
          <text v-for="one in months" :key="one.x" :x="one.x" :y="TALL + 16">{{ one.name }}</text>
        </svg>
      </div>
      <p v-if="shown" class="soft small key">
        <span class="now" aria-hidden="true"></span> this policy <span class="other" aria-hidden="true"></span> the other
      </p>
      <fieldset class="plain row">
        <legend>As if the policy said <span class="soft small">empty: as it says now</span></legend>
        <label v-for="one in FIELDS" :key="one.name" class="row">
          {{ one.label }}
          <input
            v-model.lazy="typed[one.name]"
            class="plain-input"
            type="number"
            min="1"
            :max="one.most"
            :placeholder="String(place?.policy[one.name] ?? '')"
          />
          <span class="soft">days</span>
        </label>
      </fieldset>
    </template>
  </details>
</template>

<style scoped>
.ahead {
  border-top: 1px solid var(--line-strong);
  padding-top: var(--s3);
  display: grid;
  gap: var(--s2);
}
summary h2 {
  display: inline;
}
.drawing {
  overflow-x: auto;
}
.now {
  fill: var(--bar-used);
  background: var(--bar-used);
}
.other {
  fill: var(--bar-granted);
  background: var(--bar-granted);
}
.key span {
  display: inline-block;
  width: 10px;
  height: 10px;
}
line {
  stroke: var(--line-strong);
}
text {
  font-size: var(--t-small);
  fill: var(--ink-soft);
}
legend {
  padding: 0;
}
fieldset {
  flex-wrap: wrap;
  gap: var(--s2) var(--s4);
}
input {
  width: 92px;
}
</style>
