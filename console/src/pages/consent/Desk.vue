<script setup lang="ts">
// The consent desk: requests that wait, the one due first before the others; and how the last ones ended.
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { readRequests, useRequests } from "@/api/reads/consent";
import ExportList from "@/ui/ExportList.vue";
import Loadable from "@/ui/Loadable.vue";
import MoreRows from "@/ui/MoreRows.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import StateWord from "@/ui/StateWord.vue";
import { useRows } from "@/ui/use/rows";
import type { Tone } from "@/ui/use/states";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const route = useRoute();
const router = useRouter();
const past = computed(() => route.query.past !== undefined);
const { data, items: rows, error, isLoading, refetch, hasNextPage, isFetchingNextPage, fetchNextPage } = useRequests(() => !past.value);
// The first sentence; the page of the request has them all.
const why = (one: { why?: string; reason: string }) => (one.why ? `${(one.why.split(". ")[0] ?? "").replace(/\.$/, "")}.` : one.reason);
const tones: Record<string, Tone> = {
  waiting: "wait",
  granted: "live",
  declined: "broken",
  lapsed: "gone",
  withdrawn: "gone",
};
const { chosen } = useRows(
  () => rows.value.length,
  (at) => void router.push({ name: "request", params: { id: rows.value[at]?.id } }),
);
</script>

<template>
  <PageHead
    title="Consent desk"
    :count="data && !past ? (hasNextPage ? t`${rows.length} and more waiting` : t`${rows.length} waiting`) : ''"
    lead="Who asks, for what, why, and until when; one decision at a time"
  >
    <template #below>
      <nav class="row switches" aria-label="Which requests">
        <RouterLink :to="{ query: {} }" :aria-current="past ? undefined : 'page'">Waiting</RouterLink>
        <RouterLink :to="{ query: { past: '' } }" :aria-current="past ? 'page' : undefined">Decided</RouterLink>
      </nav>
    </template>
  </PageHead>
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :retry="refetch">
    <p v-if="!rows.length" class="empty">
      {{
        past ? t`No request was decided yet.` : t`Nothing waits for a decision. Owners and registrars make requests from a client's page.`
      }}
    </p>
    <table v-else class="log">
      <thead>
        <tr>
          <th scope="col">Client</th>
          <th scope="col">Asks for</th>
          <th scope="col" class="num">Weight</th>
          <th scope="col">By, and why</th>
          <th scope="col">{{ past ? t`Ended` : t`Due` }}</th>
          <th scope="col">State</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(one, at) in rows" :id="`row-${at}`" :key="one.id" tabindex="-1" :class="{ chosen: at === chosen }">
          <td class="free">
            <RouterLink :to="{ name: 'request', params: { id: one.id } }">{{ one.client_name }}</RouterLink>
          </td>
          <td class="free">
            <template v-if="one.act">{{ one.act }}</template><template v-else
              ><template v-if="one.rightsizes">less: </template><code>{{ one.asks.join(", ") }}</code></template
            >
          </td>
          <td class="num">{{ one.weight }}</td>
          <td class="free">
            {{ one.requested_by }}
            <div class="soft small">{{ why(one) }}</div>
          </td>
          <td class="nowrap"><Moment :at="past ? (one.decided_at ?? one.due_at) : one.due_at" /></td>
          <td class="nowrap">
            <StateWord :tone="tones[one.state] ?? 'gone'" :word="listed(one.state)" />
            <div v-if="!past && one.approvers > 1" class="soft small">{{ one.approvals.length }} of {{ one.approvers }} said yes</div>
            <div v-else-if="past && one.decided_by" class="soft small">by {{ one.decided_by }}</div>
          </td>
        </tr>
      </tbody>
    </table>
    <MoreRows :shown="rows.length" :more="hasNextPage" :busy="isFetchingNextPage" @more="fetchNextPage" />
    <ExportList v-if="rows.length" name="requests" what="these requests" :read="(cursor) => readRequests(!past, cursor)" />
  </Loadable>
</template>

<style scoped>
.nowrap {
  white-space: nowrap;
}
.empty {
  border-top: 2px solid var(--line-strong);
  padding: var(--s4) 0;
}
</style>
