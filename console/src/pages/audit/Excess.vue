<script setup lang="ts">
// Weight granted, used and unused, by client, owner or resource; what is in a dry run; and where to right-size a client.
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useAudit, useExcess, useTrend } from "@/api/reads/audit";
import { useDryRuns } from "@/api/reads/consent";
import ExportList from "@/ui/ExportList.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import StateWord from "@/ui/StateWord.vue";
import TrendLine from "@/ui/charts/TrendLine.vue";
import AuditTabs from "./AuditTabs.vue";
import { whole } from "@/ui/use/export";
import { t } from "@/texts/sentences";
import { figure } from "@/ui/use/words";

type By = "client" | "owner" | "resource";
const route = useRoute();
const router = useRouter();
const BY: By[] = ["client", "owner", "resource"];
const by = computed<By>(() => (BY.includes(route.query.by as By) ? (route.query.by as By) : "client"));
const { data, error, isLoading, refetch } = useExcess(by);
const { data: audit } = useAudit();
const { data: dry_runs } = useDryRuns();
// As many as one call answers; what weighs less comes after these.
const MOST = 100;
const open = ref("");
const trend = useTrend(by, open);
const most = computed(() => Math.max(...(data.value ?? []).map((one) => one.granted), 1));
const wide = (weight: number) => `${(100 * weight) / most.value}%`;
const held = (rows: { permission: string; reach: { words: string } }[]) =>
  rows.map((one) => `${one.permission} (${one.reach.words})`).join(", ") || t`nothing`;
</script>

<template>
  <PageHead
    title="Excess"
    :count="audit?.excess.share == null ? '' : t`${Math.round(100 * audit.excess.share)} % of the granted weight is not used`"
    lead="An operation weighs its effect times its class of data, and by the share of the objects that it reaches"
  >
    <template #below><AuditTabs /></template>
  </PageHead>
  <section v-if="dry_runs?.length" aria-labelledby="dry_runs">
    <h2 id="dry_runs">Dry runs <span class="soft small">nothing is refused by these; what they would refuse is counted</span></h2>
    <table class="log">
      <thead>
        <tr>
          <th scope="col">Client</th>
          <th scope="col">Instead of</th>
          <th scope="col">In the dry run</th>
          <th scope="col">Missed</th>
          <th scope="col">Until</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in dry_runs" :key="one.id">
          <td class="free">
            <RouterLink :to="{ name: 'dossier', params: { id: one.client_id }, hash: '#rightsize' }">{{ one.client_name }}</RouterLink>
            <div class="soft small">at {{ one.resource }}</div>
          </td>
          <td class="free small">{{ held(one.before) }}</td>
          <td class="free small">{{ held(one.after) }}</td>
          <td class="nowrap">
            <StateWord :tone="one.missed ? 'broken' : 'live'" :word="one.missed ? t`${one.missed} calls` : t`nothing`" />
          </td>
          <td class="nowrap"><Moment :at="one.dry_run_until" /></td>
        </tr>
      </tbody>
    </table>
  </section>
  <div class="row by" role="group" aria-label="By">
    by
    <button
      v-for="one in BY"
      :key="one"
      type="button"
      class="toggle"
      :aria-pressed="by === one"
      @click="((open = ''), router.replace({ query: one === 'client' ? {} : { by: one } }))"
    >
      {{ one }}
    </button>
  </div>
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="10" :retry="refetch">
    <p v-if="!data?.length" class="empty">Nothing is granted here yet.</p>
    <table v-else class="log">
      <thead>
        <tr>
          <th scope="col">{{ by === "client" ? t`Client` : by === "owner" ? t`Owner` : t`Resource` }}</th>
          <th scope="col" class="bars">Used · unused</th>
          <th scope="col" class="number">Granted</th>
          <th scope="col" class="number">Unused</th>
          <th scope="col" class="number">Excess</th>
          <th scope="col" class="number">Too new to say</th>
          <th scope="col"><span class="visually-hidden">More</span></th>
        </tr>
      </thead>
      <tbody>
        <template v-for="one in data" :key="one.key">
          <tr>
            <td class="free name">
              <RouterLink v-if="by === 'client'" :to="{ name: 'dossier', params: { id: one.key }, hash: '#rightsize' }">{{
                one.title
              }}</RouterLink><RouterLink v-else-if="by === 'resource'" :to="{ name: 'resources', params: { name: one.key } }">{{
                one.title
              }}</RouterLink
              ><template v-else>{{ one.title }}</template>
            </td>
            <td>
              <svg
                class="bar"
                height="12"
                width="100%"
                role="img"
                :aria-label="t`${figure(one.used, 1)} used, ${figure(one.unused, 1)} unused`"
              >
                <rect class="used" height="12" :width="wide(one.used)" />
                <rect class="unused" height="12" :x="wide(one.used)" :width="wide(one.unused)" />
              </svg>
            </td>
            <td class="number">{{ figure(one.granted, 1) }}</td>
            <td class="number">{{ figure(one.unused, 1) }}</td>
            <td class="number">
              <template v-if="one.share !== null">{{ Math.round(100 * one.share) }} %</template><span v-else class="soft">too early</span>
            </td>
            <td class="number soft">{{ one.early ? figure(one.early, 1) : "" }}</td>
            <td class="nowrap">
              <button
                type="button"
                class="link-button small"
                :aria-expanded="open === one.key"
                @click="open = open === one.key ? '' : one.key"
              >
                {{ open === one.key ? t`hide` : t`trend` }}
              </button>
            </td>
          </tr>
          <tr v-if="open === one.key">
            <td colspan="7">
              <TrendLine
                v-if="trend.data.value"
                :points="trend.data.value"
                :label="t`Excess of ${one.title}`"
                :wide="520"
                :tall="70"
              /><span v-else class="soft small" role="status">Reading …</span>
            </td>
          </tr>
        </template>
      </tbody>
    </table>
    <ExportList v-if="data?.length" :name="`excess-by-${by}`" what="this list" :read="() => whole(data)" />
    <p v-if="(data?.length ?? 0) >= MOST" class="soft">
      The {{ MOST }} with the most unused weight are shown. All others weigh less; a dossier has its own figures.
    </p>
  </Loadable>
</template>

<style scoped>
section {
  margin-bottom: var(--s5);
}
h2 {
  margin-bottom: var(--s2);
}
.by {
  margin-bottom: var(--s3);
  gap: var(--s1);
}
.bars {
  width: 38%;
}
.name {
  font-weight: 560;
}
.number {
  text-align: right;
  white-space: nowrap;
}
.nowrap {
  white-space: nowrap;
}
.bar {
  display: block;
}
.used {
  fill: var(--bar-used);
}
.unused {
  fill: var(--wait);
}
.empty {
  padding: var(--s4) 0;
}
</style>
