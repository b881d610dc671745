<script setup lang="ts">
// A directory's posture in one look: excess and its trend, what expires when, what is wrong and for how long.
import { computed } from "vue";
import type { Schemas } from "@/api/client";
import StateWord from "@/ui/StateWord.vue";
import TrendLine from "@/ui/charts/TrendLine.vue";
import { severityTone } from "@/ui/use/states";
import { t } from "@/texts/sentences";
import { figure } from "@/ui/use/words";
import { listed } from "@/texts/listed";

const props = defineProps<{ audit: Schemas["Audit"] }>();
const SEVERITIES = ["high", "medium", "low"] as const;
const BANDS = [
  { days: 7, word: t`to 7 days` },
  { days: 30, word: t`to 30` },
  { days: 90, word: t`to 90` },
  { days: 0, word: t`older` },
];
const share = computed(() => (props.audit.excess.share === null ? null : Math.round(100 * props.audit.excess.share)));
const aged = (severity: string, days: number) => props.audit.ages.find((one) => one.severity === severity && one.days === days)?.count ?? 0;
const ENDS = [
  { days: 7, word: t`within 7 days`, tone: "broken" },
  { days: 30, word: t`within 30 days`, tone: "wait" },
  { days: 90, word: t`within 90 days`, tone: "live" },
  { days: 0, word: t`later`, tone: "live" },
  { days: null, word: t`never`, tone: "broken" },
];
const ends = computed(() => ENDS.map((one) => ({ ...one, count: props.audit.ending.find((band) => band.days === one.days)?.count ?? 0 })));
const credentials = computed(() =>
  Math.max(
    ends.value.reduce((sum, one) => sum + one.count, 0),
    1,
  ),
);
</script>

<template>
  <section class="posture" aria-label="Posture">
    <div>
      <h2>Excess</h2>
      <p v-if="share !== null" class="big">{{ share }} %</p>
      <p v-else class="big soft">too early to say</p>
      <p class="small soft">
        of the granted weight is not used: {{ figure(audit.excess.unused, 0) }} of {{ figure(audit.excess.granted, 0)
        }}<template v-if="audit.excess.early">; {{ figure(audit.excess.early, 0) }} is too early to tell</template>
      </p>
      <TrendLine :points="audit.trend" label="Excess" :wide="210" />
    </div>
    <div>
      <h2>Open findings <span class="soft small">by age</span></h2>
      <table class="ages">
        <thead>
          <tr>
            <td></td>
            <th v-for="band in BANDS" :key="band.days" scope="col">{{ band.word }}</th>
            <th scope="col">all</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="severity in SEVERITIES" :key="severity">
            <th scope="row"><StateWord :tone="severityTone[severity] ?? 'gone'" :word="listed(severity)" /></th>
            <td v-for="band in BANDS" :key="band.days" :class="{ none: !aged(severity, band.days) }">
              {{ aged(severity, band.days) }}
            </td>
            <td class="all">{{ audit.open[severity] ?? 0 }}</td>
          </tr>
        </tbody>
      </table>
      <p class="small soft">{{ audit.resolved }} resolved in the last thirty days, {{ audit.waived }} waived for a while</p>
    </div>
    <div>
      <h2>Live credentials <span class="soft small">by their expiry</span></h2>
      <ul class="ends">
        <li v-for="one in ends" :key="one.word">
          <span>{{ one.word }}</span>
          <svg height="10" width="100%" aria-hidden="true">
            <rect :class="one.tone" height="10" :width="`${(100 * one.count) / credentials}%`" />
          </svg>
          <span class="count">{{ one.count }}</span>
        </li>
      </ul>
    </div>
  </section>
</template>

<style scoped>
.posture {
  display: grid;
  grid-template-columns: 230px minmax(0, 1.25fr) minmax(0, 1fr);
  gap: var(--s5);
  border-top: 2px solid var(--ink);
  border-bottom: 1px solid var(--line-strong);
  padding: var(--s3) 0 var(--s4);
  margin-bottom: var(--s4);
}
.posture > div {
  display: grid;
  gap: var(--s2);
  align-content: start;
}
h2 {
  font-size: var(--t-body);
}
.big {
  font-size: 30px;
  font-weight: 660;
  line-height: 1;
  letter-spacing: -0.02em;
}
.big.soft {
  font-size: var(--t-h2);
}
.ages {
  border-collapse: collapse;
  font-variant-numeric: tabular-nums;
  width: 100%;
}
.ages th,
.ages td {
  padding: 3px var(--s2);
  text-align: right;
  font-weight: 400;
}
.ages thead th {
  color: var(--ink-soft);
  font-size: var(--t-small);
  border-bottom: 1px solid var(--line);
}
.ages tbody th {
  text-align: left;
  padding-left: 0;
}
.ages .none {
  color: var(--ink-soft);
}
.ages .all {
  font-weight: 660;
}
.ends {
  display: grid;
  gap: 6px;
  list-style: none;
  padding: 0;
}
.ends li {
  display: grid;
  grid-template-columns: 112px 1fr 40px;
  gap: var(--s2);
  align-items: center;
}
.count {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
rect.broken {
  fill: var(--broken);
}
rect.wait {
  fill: var(--wait);
}
rect.live {
  fill: var(--bar-granted);
}
</style>
