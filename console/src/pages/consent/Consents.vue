<script setup lang="ts">
// Every consent in force of the directory: who may do what, where and until when. Those granted last come first.
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { type ConsentFilter, readConsents, useConsents } from "@/api/reads/consent";
import { useResources } from "@/api/reads/resources";
import AuditTabs from "@/pages/audit/AuditTabs.vue";
import ExportList from "@/ui/ExportList.vue";
import SavedFilters from "@/ui/forms/SavedFilters.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import Pager from "@/ui/Pager.vue";
import { useRows } from "@/ui/use/rows";
import { acting, figure } from "@/ui/use/words";
import { useTyped } from "@/ui/use/typed";
import { t } from "@/texts/sentences";

const route = useRoute();
const router = useRouter();
const text = (name: string) => String(route.query[name] ?? "");
const filter = computed<ConsentFilter>(() => ({
  q: text("q"),
  resource: text("resource"),
  permission: text("permission"),
  which: text("which"),
}));
const { data, error, isLoading, isPlaceholderData, refetch } = useConsents(filter, () => text("cursor"));
const { data: resources } = useResources();
const rows = computed(() => data.value?.items ?? []);
const WHICH = [
  { value: "", label: t`all` },
  { value: "bounded", label: t`bounded` },
  { value: "unbounded", label: t`not bounded` },
  { value: "itself", label: t`as itself` },
  { value: "people", label: t`for people` },
  { value: "by-people", label: t`by people themselves` },
];
const change = (said: Partial<ConsentFilter>) => {
  const query = { ...filter.value, ...said };
  void router.replace({ query: Object.fromEntries(Object.entries(query).filter(([, value]) => value)) });
};
const { wanted, typed } = useTyped(
  () => filter.value.q,
  (q) => change({ q }),
);
const filtered = computed(() => Object.values(filter.value).some(Boolean));
const said = computed(() => {
  if (!data.value || error.value) return "";
  return data.value.total == null ? t`more than 10,000` : figure(data.value.total);
});
const { chosen } = useRows(
  () => rows.value.length,
  (place) => {
    const one = rows.value[place];
    if (one) void router.push({ name: "dossier", params: { id: one.client_id } });
  },
);
</script>

<template>
  <PageHead title="Consents" :count="said" announced lead="Every permission in force: whose it is, where it counts, and until when">
    <template #below><AuditTabs /></template>
  </PageHead>
  <div class="filter row" role="group" aria-label="Filter">
    <input
      v-model="wanted"
      type="search"
      class="plain-input"
      aria-label="Client, permission or person"
      placeholder="Client, permission or person"
      @input="typed"
    />
    <select
      class="plain-input"
      aria-label="Resource"
      :value="filter.resource"
      @change="change({ resource: ($event.target as HTMLSelectElement).value })"
    >
      <option value="">every resource</option>
      <option v-for="one in resources" :key="one.name" :value="one.name">{{ one.title }}</option>
    </select>
    <button
      v-for="one in WHICH"
      :key="one.value"
      type="button"
      class="toggle"
      :aria-pressed="filter.which === one.value"
      @click="change({ which: one.value })"
    >
      {{ one.label }}
    </button>
    <span v-if="filter.permission" class="soft"
      >only <code>{{ filter.permission }}</code>
      <button type="button" class="link-button" @click="change({ permission: '' })">any permission</button></span
    >
  </div>
  <SavedFilters list="consents" />
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="12" :retry="refetch">
    <p v-if="!rows.length" class="empty">
      {{ filtered ? t`No consent matches.` : t`Nothing is consented to yet.` }}
      <button v-if="filtered" type="button" class="link-button" @click="change({ q: '', resource: '', permission: '', which: '' })">
        Show all
      </button>
    </p>
    <table v-else class="log" :class="{ stale: isPlaceholderData }" :aria-busy="isPlaceholderData">
      <caption class="visually-hidden">
        Consents
      </caption>
      <thead>
        <tr>
          <th scope="col">Client</th>
          <th scope="col">Permission</th>
          <th scope="col">Acting</th>
          <th scope="col">Counts</th>
          <th scope="col">Granted</th>
          <th scope="col">Until</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(one, place) in rows" :key="one.id" :class="{ chosen: place === chosen }">
          <td class="free">
            <RouterLink :id="`row-${place}`" :to="{ name: 'dossier', params: { id: one.client_id } }">{{ one.client_name }}</RouterLink>
          </td>
          <td class="nowrap">
            <button type="button" class="link-button" @click="change({ permission: one.permission, resource: one.resource })">
              <code>{{ one.permission }}</code>
            </button>
            <div class="soft small">{{ one.resource }}</div>
          </td>
          <td class="free">
            {{ acting(one.kind, one.person) }}
            <div v-if="one.by_person" class="soft small">by themselves</div>
          </td>
          <td class="free">{{ one.reach.words }}</td>
          <td class="nowrap">
            <Moment :at="one.granted_at" />
            <div class="soft small">by {{ one.granted_by }}</div>
          </td>
          <td class="nowrap"><Moment v-if="one.expires_at" :at="one.expires_at" /><span v-else class="soft">no expiry</span></td>
        </tr>
      </tbody>
    </table>
    <ExportList
      v-if="rows.length"
      name="consents"
      :what="filtered ? t`what matches` : t`all consents`"
      :read="(cursor) => readConsents(filter, cursor)"
    />
    <Pager v-if="data" :next="data.next" :total="data.total" :shown="rows.length" of="consents" />
  </Loadable>
</template>

<style scoped>
.filter {
  margin-bottom: var(--s3);
  gap: var(--s2);
  flex-wrap: wrap;
}
.filter input {
  width: 230px;
}
.nowrap {
  white-space: nowrap;
}
.empty {
  border-top: 2px solid var(--line-strong);
  padding: var(--s4) 0;
}
</style>
