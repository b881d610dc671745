<script setup lang="ts">
// What waits, what expires, what is wrong and what changed: four sentences with numbers that lead somewhere.
import { computed, ref, watch } from "vue";
import { sentence } from "@/api/history";
import { can, current } from "@/api/session";
import { useToday, useWaiting } from "@/api/reads/audit";
import Horizon from "@/ui/charts/Horizon.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import TrendLine from "@/ui/charts/TrendLine.vue";
import { type Visit, visited } from "@/api/last-visit";
import { ago, now } from "@/ui/use/times";
import { count, figure, percent } from "@/ui/use/words";
import { t, tag } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const { data, error, isLoading, refetch } = useToday();

const findings = computed(() => {
  const all = data.value?.findings ?? {};
  const total = Object.values(all).reduce((sum, one) => sum + one, 0);
  return { total, high: all.high ?? 0 };
});
const { findings: mine } = useWaiting();
// Whoever reads the whole ledger is told what is new of it.
const before = ref<Visit | null>(null);
const newest = computed(() => (can("ledger.read") ? (data.value?.recent[0]?.sequence ?? 0) : 0));
watch(newest, (sequence) => sequence && (before.value = visited(sequence, Date.now())), { immediate: true });
const isNew = (sequence: number) => before.value !== null && sequence > before.value.sequence;
const excess = computed(() => (data.value?.excess == null ? null : percent(data.value.excess)));
const title = computed(() => new Intl.DateTimeFormat(tag(), { weekday: "long", day: "numeric", month: "long" }).format(now.value));
</script>

<template>
  <PageHead :title="title" :lead="t`${current?.directory_name}: ${data ? count(data.clients, 'client') : '…'} registered`" />
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="14" :retry="refetch">
    <template v-if="data">
      <section aria-label="In short" class="short">
        <p>
          <RouterLink :to="{ name: 'clients', query: { attention: 'waiting' } }">{{
            count(data.waiting_in_all, "client waits", "clients wait")
          }}</RouterLink>
          for consent<template v-if="data.waiting[0]">, the oldest asked {{ ago(data.waiting[0].since, now) }}</template
          >;
          <RouterLink :to="{ name: 'desk' }">{{ count(data.requests_in_all, "request waits", "requests wait") }}</RouterLink>
          for a decision<template v-if="data.requests[0]">, the first due {{ ago(data.requests[0].due_at, now) }}</template
          >.
        </p>
        <p>
          <RouterLink :to="{ name: 'clients', query: { attention: 'expiring' } }">{{
            count(data.soon.credentials, "credential expires", "credentials expire")
          }}</RouterLink>
          within {{ data.soon.days }} days<template v-if="data.soon.in_use"
            >, <strong>{{ figure(data.soon.in_use) }} still in use</strong></template
          >.
        </p>
        <p>
          The audit has <RouterLink to="/audit">{{ count(findings.total, "finding") }}</RouterLink><template v-if="findings.high"
            >,
            <RouterLink :to="{ name: 'audit', query: { severity: 'high' } }">{{ figure(findings.high) }} of them high</RouterLink></template
          ><template v-if="mine"
            >; <RouterLink to="/reviews">{{ count(mine, "finding waits", "findings wait") }}</RouterLink> for your answer</template
          >.
        </p>
        <p v-if="excess !== null" class="excess">
          <span
            ><RouterLink to="/audit/excess">{{ excess }}</RouterLink> of what is granted is not used, by weight ({{
              figure(Math.round(data.unused_weight))
            }}
            of {{ figure(Math.round(data.granted_weight)) }}).</span
          >
          <TrendLine :points="data.trend" label="Excess" :wide="150" :tall="22" bare />
        </p>
        <p v-else>Too early to say how much of what is granted is not used.</p>
      </section>

      <section v-if="data.decided.length" aria-labelledby="told">
        <h2 id="told">Your requests</h2>
        <ul>
          <li v-for="one in data.decided" :key="one.id">
            <RouterLink :to="{ name: 'request', params: { id: one.id } }">{{
              one.rightsizes ? t`${one.client_name}, less: ${one.asks.join(", ")}` : `${one.client_name}, ${one.asks.join(", ")}`
            }}</RouterLink>
            is <strong>{{ listed(one.state) }}</strong><template v-if="one.decided_by"> by {{ one.decided_by }}</template
            ><template v-if="one.said">: “{{ one.said }}”</template>
          </li>
        </ul>
      </section>

      <section aria-labelledby="horizon">
        <h2 id="horizon">Horizon <span class="soft small">credentials by the week in which they expire, over a year</span></h2>
        <Horizon :weeks="data.horizon" :overlaps="data.overlaps" :overlaps-in-all="data.overlaps_in_all" :at="now" />
      </section>

      <div class="columns">
        <section aria-labelledby="waiting">
          <h2 id="waiting">Waiting for consent</h2>
          <p v-if="!data.waiting.length" class="soft">Nothing waits.</p>
          <table v-else class="log">
            <thead>
              <tr>
                <th scope="col">Client</th>
                <th scope="col">Asks for</th>
                <th scope="col">Since</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="one in data.waiting" :key="one.client_id">
                <td class="free">
                  <RouterLink :to="{ name: 'consent', params: { id: one.client_id } }">{{ one.client_name }}</RouterLink>
                </td>
                <td class="free">
                  <code>{{ one.permissions.join(", ") }}</code>
                </td>
                <td class="nowrap"><Moment :at="one.since" /></td>
              </tr>
            </tbody>
          </table>
          <p v-if="data.waiting_in_all > data.waiting.length" class="cut">
            {{ figure(data.waiting.length) }} of {{ figure(data.waiting_in_all) }}:
            <RouterLink :to="{ name: 'clients', query: { attention: 'waiting' } }">all that wait for consent</RouterLink>
          </p>
        </section>
        <section aria-labelledby="changed">
          <h2 id="changed">
            Changed lately
            <span v-if="before" class="soft small"
              >{{ figure(newest - before.sequence) }} since you were last here, {{ ago(new Date(before.at).toISOString(), now) }}</span
            >
          </h2>
          <table class="log">
            <thead>
              <tr>
                <th scope="col">When</th>
                <th scope="col">Who did what</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="entry in data.recent" :key="entry.sequence">
                <td class="nowrap"><Moment :at="entry.at" /> <strong v-if="isNew(entry.sequence)" class="small">new</strong></td>
                <td class="free">
                  {{ entry.actor.name }}
                  <RouterLink v-if="entry.subject.client" :to="{ name: 'dossier', params: { id: entry.subject.client } }">{{
                    sentence(entry)
                  }}</RouterLink>
                  <template v-else>{{ sentence(entry) }}</template>
                </td>
              </tr>
            </tbody>
          </table>
          <p v-if="can('ledger.read')" class="cut">
            The last {{ data.recent.length }}: <RouterLink to="/directory#ledger">the whole ledger</RouterLink>
          </p>
        </section>
      </div>
    </template>
  </Loadable>
</template>

<style scoped>
section {
  margin-bottom: var(--s5);
}
h2 {
  margin-bottom: var(--s2);
}
.short {
  font-size: var(--t-lead);
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s2) var(--s6);
  border-top: 2px solid var(--ink);
  border-bottom: 1px solid var(--line-strong);
  padding: var(--s4) 0;
}
.excess {
  display: flex;
  gap: var(--s3);
  align-items: center;
}
.columns {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s5);
}
.cut {
  margin-top: var(--s2);
  color: var(--ink-soft);
}
.nowrap {
  white-space: nowrap;
}
</style>
