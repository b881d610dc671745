<script setup lang="ts">
// One table of all clients. Filter, order and page live in the address; the service does the work.
import { NButton } from "naive-ui";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import type { Schemas } from "@/api/client";
import { can } from "@/api/session";
import { type ClientFilter, readClients, useClients } from "@/api/reads/clients";
import BulkPanel from "./BulkPanel.vue";
import ExportList from "@/ui/ExportList.vue";
import LadderBar from "@/ui/charts/LadderBar.vue";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import Pager from "@/ui/Pager.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import SavedFilters from "@/ui/forms/SavedFilters.vue";
import StateWord from "@/ui/StateWord.vue";
import type { Columns } from "@/ui/use/export";
import { count, figure } from "@/ui/use/words";
import { useRows } from "@/ui/use/rows";
import { credentialTone, credentialWord, severityTone } from "@/ui/use/states";
import { useTyped } from "@/ui/use/typed";
import { t } from "@/texts/sentences";
import { listed } from "@/texts/listed";

const route = useRoute();
const router = useRouter();
const text = (name: string) => String(route.query[name] ?? "");
const filter = computed<ClientFilter>(() => ({
  q: text("q"),
  attention: text("attention"),
  sort: text("sort") || "name",
  cursor: text("cursor"),
}));
const { data, error, isLoading, isPlaceholderData, refetch } = useClients(filter);

const { wanted, typed } = useTyped(
  () => filter.value.q,
  (q) => change({ q }),
);
function change(part: Partial<ClientFilter>): void {
  const { q, attention, sort } = { ...filter.value, ...part };
  void router.replace({
    query: { ...(q && { q }), ...(attention && { attention }), ...(sort !== "name" && { sort }) },
  });
}

const ATTENTION = [
  { value: "", label: t`all` },
  { value: "waiting", label: t`waiting for consent` },
  { value: "expiring", label: t`credential expires soon` },
  { value: "expired-credential", label: t`expired credential` },
  { value: "ownerless", label: t`no owner` },
  { value: "dormant", label: t`not used` },
  { value: "disabled", label: t`disabled` },
  { value: "unfinished", label: t`unfinished` },
];
const rows = computed(() => data.value?.items ?? []);
const { chosen } = useRows(
  () => rows.value.length,
  (place) => void router.push({ name: "dossier", params: { id: rows.value[place]?.id } }),
);
// Several may be cleaned up at once; the choice ends with the filter.
const picked = ref<string[]>([]);
const cleaning = ref(false);
const cleans = computed(() => can("clients.remove") || can("clients.set-state"));
watch(
  () => [filter.value.attention, filter.value.q],
  () => {
    picked.value = [];
    cleaning.value = false;
  },
);
const pick = (id: string, on: boolean) => (picked.value = on ? [...picked.value, id] : picked.value.filter((one) => one !== id));
// As many as are previewed at once.
const AT_ONCE = 200;
const choosing = ref(false);
async function pickAll(): Promise<void> {
  choosing.value = true;
  const [asked, found] = [filter.value, [] as string[]];
  let cursor: string | undefined;
  try {
    do {
      const page = await readClients(asked, cursor);
      found.push(...page.items.map((one) => one.id));
      cursor = page.next ?? undefined;
    } while (cursor && found.length < AT_ONCE);
    // Of another filter by now nothing is chosen.
    if (asked.q === filter.value.q && asked.attention === filter.value.attention) picked.value = found.slice(0, AT_ONCE);
  } catch (problem) {
    unpicked.value = problem;
  } finally {
    choosing.value = false;
  }
}
const unpicked = ref<unknown>(null);
const filtered = computed(() => filter.value.q !== "" || filter.value.attention !== "");
const COLUMNS: Columns<Schemas["Client"]> = {
  id: (one) => one.id,
  name: (one) => one.name,
  purpose: (one) => one.purpose,
  kind: (one) => one.kind,
  state: (one) => one.state,
  owners: (one) => one.owners.map((owner) => owner.name).join("; "),
  registered_at: (one) => one.registered_at,
  asked: (one) => one.ladder.asked,
  granted: (one) => one.ladder.granted,
  used: (one) => one.ladder.used,
  credential_state: (one) => one.credential_state,
  next_expiry: (one) => one.next_expiry,
  last_used_at: (one) => one.last_used_at,
  findings: (one) => one.findings,
  worst: (one) => one.worst,
};
// What stands there is the answer to what was asked before, until the new one comes.
const said = computed(() =>
  error.value || data.value?.total == null
    ? ""
    : isPlaceholderData.value
      ? "…"
      : filtered.value
        ? count(data.value.total, "matches", "match")
        : figure(data.value.total),
);
const credentialSaid = (one: { credential_state: string | null; next_expiry: string | null }) =>
  one.credential_state === null
    ? t`none`
    : one.credential_state === "expired"
      ? t`expired`
      : ["disabled", "coming"].includes(one.credential_state)
        ? credentialWord(one.credential_state)
        : one.next_expiry
          ? t`expires`
          : t`no expiry`;
</script>

<template>
  <PageHead title="Clients" :count="said" announced>
    <NButton v-if="can('charters.compare')" @click="router.push({ name: 'charter' })">Compare a charter</NButton>
    <NButton v-if="can('clients.register')" type="primary" @click="router.push({ name: 'register' })">Register a client</NButton>
    <span v-else class="soft small">A registrar or steward registers clients</span>
  </PageHead>
  <div class="filter row" role="group" aria-label="Filter">
    <input v-model="wanted" type="search" class="plain-input" aria-label="Name or purpose" placeholder="Name or purpose" @input="typed" />
    <NButton v-if="picked.length && !cleaning" size="small" class="clean" @click="cleaning = true">Clean up {{ picked.length }}</NButton>
    <NButton
      v-if="cleans && filtered && !cleaning && rows.length && picked.length < Math.min(data?.total ?? 0, AT_ONCE)"
      size="small"
      :loading="choosing"
      :disabled="choosing"
      @click="pickAll"
      >{{
        (data?.total ?? 0) > AT_ONCE ? t`Choose the first ${AT_ONCE} that match` : t`Choose all ${figure(data?.total ?? 0)} that match`
      }}</NButton
    >
    <button
      v-for="one in ATTENTION"
      :key="one.value"
      type="button"
      class="toggle outlined"
      :aria-pressed="filter.attention === one.value"
      @click="change({ attention: one.value })"
    >
      {{ one.label }}
    </button>
  </div>
  <SavedFilters list="clients" />
  <ProblemNote v-if="unpicked" :error="unpicked" />
  <BulkPanel v-if="cleaning" :clients="picked" @closed="((cleaning = false), (picked = []))" />
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="12" :retry="refetch">
    <p v-if="!rows.length && filtered" class="empty">
      No client matches.
      <button type="button" class="link-button" @click="change({ q: '', attention: '' })">Show all</button>
    </p>
    <p v-else-if="!rows.length" class="empty">No client is registered here yet. Registering one takes a name, a purpose and an owner.</p>
    <table v-else class="log" :class="{ stale: isPlaceholderData }" :aria-busy="isPlaceholderData">
      <caption class="visually-hidden">
        Clients
      </caption>
      <thead>
        <tr>
          <th v-if="cleans" scope="col" class="box"><span class="visually-hidden">Choose</span></th>
          <th scope="col" :aria-sort="filter.sort === 'name' ? 'ascending' : undefined">
            <button type="button" @click="change({ sort: 'name' })">Name and purpose</button>
          </th>
          <th scope="col">State</th>
          <th scope="col">Asked · granted · used</th>
          <th scope="col" :aria-sort="filter.sort === 'expiry' ? 'ascending' : undefined">
            <button type="button" @click="change({ sort: 'expiry' })">Credential</button>
          </th>
          <th scope="col" :aria-sort="filter.sort === 'used' ? 'ascending' : undefined">
            <button type="button" @click="change({ sort: 'used' })">Last use</button>
          </th>
          <th scope="col">Owners</th>
          <th scope="col">Findings</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(one, place) in rows" :key="one.id" :class="{ chosen: place === chosen }">
          <td v-if="cleans" class="box">
            <label
              ><input
                type="checkbox"
                :aria-label="t`Choose ${one.name}`"
                :checked="picked.includes(one.id)"
                @change="pick(one.id, ($event.target as HTMLInputElement).checked)"
            /></label>
          </td>
          <td class="name free">
            <RouterLink :id="`row-${place}`" :to="{ name: 'dossier', params: { id: one.id } }">{{ one.name }}</RouterLink>
            <span class="purpose soft small">{{ one.purpose }}</span>
          </td>
          <td>
            <StateWord v-if="one.state !== 'live'" tone="gone" :word="listed(one.state)" />
            <StateWord v-else-if="one.ladder.waiting" tone="wait" word="waiting" />
            <StateWord v-else tone="live" word="live" />
          </td>
          <td><LadderBar :asked="one.ladder.asked" :granted="one.ladder.granted" :used="one.ladder.used" /></td>
          <td class="nowrap">
            <StateWord
              v-if="one.credential_state"
              :tone="one.credential_state === 'live' && !one.next_expiry ? 'wait' : (credentialTone[one.credential_state] ?? 'gone')"
              :word="credentialSaid(one)"
            />
            <span v-else class="soft">none</span>
            {{ " " }}<Moment v-if="one.next_expiry" :at="one.next_expiry" />
          </td>
          <td class="nowrap"><Moment :at="one.last_used_at" /></td>
          <td class="nowrap">
            <template v-if="one.owners.length"
              >{{ one.owners[0]?.name }}
              <div v-if="one.owners.length > 1" class="soft small">and {{ one.owners.length - 1 }} more</div></template
            >
            <StateWord v-else tone="broken" word="nobody" />
          </td>
          <td class="nowrap">
            <StateWord
              v-if="one.worst"
              :tone="severityTone[one.worst] ?? 'gone'"
              :word="one.findings === 1 ? `1 ${listed(one.worst)}` : listed(one.worst)"
            /><span v-else class="soft">none</span>
            <div v-if="one.findings > 1" class="soft small">worst of {{ one.findings }}</div>
          </td>
        </tr>
      </tbody>
    </table>
    <ExportList
      v-if="rows.length"
      name="clients"
      :what="filtered ? t`what matches` : t`all clients`"
      :read="(cursor) => readClients(filter, cursor)"
      :columns="COLUMNS"
    />
    <Pager v-if="data" :next="data.next" :total="data.total" :shown="rows.length" of="clients" />
  </Loadable>
</template>

<style scoped>
.filter {
  margin-bottom: var(--s3);
  gap: var(--s2);
}
.filter input {
  width: 220px;
}
/* Takes what the other columns leave. */
.name {
  width: 100%;
  max-width: 0;
}
.name a {
  font-weight: 600;
  text-decoration: none;
}
.name a:hover {
  text-decoration: underline;
}
.purpose {
  display: block;
  min-width: 180px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.nowrap {
  white-space: nowrap;
}
.box {
  width: 24px;
  padding-right: 0;
}
.box label {
  display: grid;
  place-items: center;
  width: 24px;
  height: 24px;
}
.box input {
  width: 16px;
  height: 16px;
  margin: 0;
  accent-color: var(--accent);
}
.clean {
  order: 9;
  margin-left: auto;
}
.stale {
  opacity: 0.6;
}
.empty {
  border-top: 2px solid var(--line-strong);
  padding: var(--s5) 0;
}
</style>
