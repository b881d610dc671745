<script setup lang="ts">
// A directory's posture, then what is wrong, in groups; one finding opens beside the list with its evidence and its remedy.
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import type { Schemas } from "@/api/client";
import { can, directory } from "@/api/session";
import { type FindingFilter, useAudit, useFinding, useFindingGroups, useFindings, readFindings } from "@/api/reads/audit";
import ExportList from "@/ui/ExportList.vue";
import SavedFilters from "@/ui/forms/SavedFilters.vue";
import Loadable from "@/ui/Loadable.vue";
import PageHead from "@/ui/PageHead.vue";
import StateWord from "@/ui/StateWord.vue";
import { severityTone } from "@/ui/use/states";
import { full } from "@/ui/use/times";
import AuditTabs from "./AuditTabs.vue";
import FindingCard from "./FindingCard.vue";
import FindingGroup from "./FindingGroup.vue";
import Posture from "./Posture.vue";
import { useOwnKeys } from "@/ui/use/rows";
import { useTyped } from "@/ui/use/typed";
import { t } from "@/texts/sentences";

type By = "rule" | "client" | "owner";
type Which = FindingFilter["which"];
const route = useRoute();
const router = useRouter();
const { data, error, isLoading, refetch } = useAudit();
const text = (name: string) => String(route.query[name] ?? "");
const which = computed<Which>(() => (["waived", "resolved"].includes(text("which")) ? (text("which") as Which) : "open"));
const by = computed<By>(() => (["client", "owner"].includes(text("by")) ? (text("by") as By) : "rule"));
const filter = computed<FindingFilter>(() => ({
  which: which.value,
  severity: text("severity"),
  q: text("q"),
  rule: "",
  client: "",
  owner: "",
}));
const groups = useFindingGroups(by, filter);
const shown = computed(() => (groups.data.value?.pages ?? []).flatMap((page) => page.items));
const count = computed(() => shown.value.reduce((sum, one) => sum + one.count, 0));
const SEVERITIES = ["high", "medium", "low"];
const WHICH: { value: Which; label: string }[] = [
  { value: "open", label: t`open` },
  { value: "waived", label: t`waived` },
  { value: "resolved", label: t`resolved lately` },
];
const BY: By[] = ["rule", "client", "owner"];
const FORMS = [
  { value: "sarif", label: "SARIF" },
  { value: "csv", label: "CSV" },
  { value: "jsonl", label: t`JSON lines` },
  { value: "html", label: t`a page to print` },
];
// So many are all shown, read at once where each stands in one group; of more, each group waits to be opened.
const FEW = 100;
const few = computed(() => groups.data.value !== undefined && !groups.hasNextPage.value && count.value <= FEW);
const together = computed(() => few.value && by.value !== "owner");
const all = useFindings(filter, together, FEW);
const given = computed(() => {
  const rows = (all.data.value?.pages ?? []).flatMap((page) => page.items);
  const found = new Map<string, Schemas["KeptFinding"][]>();
  for (const one of rows) found.set(key(one), [...(found.get(key(one)) ?? []), one]);
  return found;
});
const key = (one: Schemas["KeptFinding"]) => (by.value === "client" ? one.client_id : one.rule);
const rowsOf = (group: Schemas["FindingGroup"]) =>
  !together.value ? undefined : all.isLoading.value ? null : (given.value.get(group.key) ?? []);
const total = computed(() => Object.values(data.value?.open ?? {}).reduce((sum, one) => sum + one, 0));
const inAll = (value: Which) =>
  value === "open" ? total.value : value === "waived" ? (data.value?.waived ?? 0) : (data.value?.resolved ?? 0);
const titles = computed(() => Object.fromEntries((data.value?.rules ?? []).map((one) => [one.id, one.title])));
const flipped = ref(new Set<string>());
watch([by, which], () => (flipped.value = new Set()));
const isOpen = (group: Schemas["FindingGroup"]) => few.value !== flipped.value.has(group.key);
function flip(key: string): void {
  const next = new Set(flipped.value);
  if (!next.delete(key)) next.add(key);
  flipped.value = next;
}
// The open finding stands in the address; what was chosen from the list needs not be read again.
const picked = ref<Schemas["KeptFinding"] | null>(null);
const openId = computed(() => text("finding"));
const { data: read } = useFinding(() => (picked.value?.id === openId.value ? "" : openId.value));
const chosen = computed(() => (openId.value ? (picked.value?.id === openId.value ? picked.value : (read.value ?? null)) : null));
function choose(one: Schemas["KeptFinding"] | null): void {
  picked.value = one;
  change({ finding: one?.id });
}
const rule = computed(() => data.value?.rules.find((one) => one.id === chosen.value?.rule));
const change = (part: Record<string, string | undefined>) => void router.replace({ query: { ...route.query, ...part } });
const { wanted, typed } = useTyped(
  () => text("q"),
  (q) => change({ q: q || undefined }),
);

function onKey(event: KeyboardEvent): void {
  const target = event.target as HTMLElement;
  if (target.closest("input, textarea, select") || event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === "Escape" && openId.value) choose(null);
  if (event.key !== "j" && event.key !== "k") return;
  const rows = [...document.querySelectorAll<HTMLElement>("main button.finding")];
  const next =
    rows[Math.min(Math.max(rows.indexOf(document.activeElement as HTMLElement) + (event.key === "j" ? 1 : -1), 0), rows.length - 1)];
  next?.focus();
  next?.scrollIntoView({ block: "nearest" });
}
useOwnKeys(onKey);
</script>

<template>
  <PageHead
    title="Audit"
    :count="data ? t`${total} findings` : ''"
    :lead="data ? t`${data.clients} clients, ${data.rules.length} rules, as of ${full(data.at)}` : ' '"
  >
    <template #below><AuditTabs /></template>
  </PageHead>
  <Loadable :loading="isLoading" :error="error ?? groups.error.value" :ready="!!data" :lines="12" :retry="refetch">
    <template v-if="data">
      <p v-if="data.left" role="status">{{ data.left }} clients have changed and are still to be looked at: ask again in a minute.</p>
      <Posture :audit="data" />
      <SavedFilters list="findings" />
      <div class="row filter">
        <span class="set" role="group" aria-label="Which">
          <button
            v-for="one in WHICH"
            :key="one.value"
            type="button"
            class="toggle"
            :aria-pressed="which === one.value"
            @click="change({ which: one.value === 'open' ? undefined : one.value, finding: undefined })"
          >
            {{ one.label }} {{ inAll(one.value) }}
          </button>
        </span>
        <span class="set" role="group" aria-label="Severity">
          <button type="button" class="toggle" :aria-pressed="!filter.severity" @click="change({ severity: undefined })">all</button>
          <button
            v-for="word in SEVERITIES"
            :key="word"
            type="button"
            class="toggle"
            :aria-pressed="filter.severity === word"
            @click="change({ severity: word })"
          >
            <StateWord :tone="severityTone[word] ?? 'gone'" :word="word" />
          </button>
        </span>
        <input
          v-model="wanted"
          type="search"
          class="plain-input find"
          aria-label="Part of a finding or a client's name"
          placeholder="Part of it, or a client"
          @input="typed"
        />
        <span class="by" role="group" aria-label="Group by"
          >by
          <button
            v-for="one in BY"
            :key="one"
            type="button"
            class="toggle"
            :aria-pressed="by === one"
            @click="change({ by: one === 'rule' ? undefined : one })"
          >
            {{ one }}
          </button>
        </span>
      </div>
      <p v-if="groups.data.value && !shown.length" class="empty">
        {{
          filter.severity || filter.q
            ? t`No finding fits.`
            : which === "open"
              ? t`The audit finds nothing wrong.`
              : which === "waived"
                ? t`No finding is waived.`
                : t`Nothing was resolved in the last thirty days.`
        }}
      </p>
      <div v-if="groups.data.value" class="sides" :class="{ two: chosen }">
        <div>
          <FindingGroup
            v-for="group in shown"
            :key="`${by}/${group.key}`"
            :group="group"
            :by="by"
            :filter="filter"
            :open="isOpen(group)"
            :chosen="chosen?.id ?? ''"
            :titles="titles"
            :given="rowsOf(group)"
            @flip="flip(group.key)"
            @choose="(one) => choose(one.id === chosen?.id ? null : one)"
          />
          <button v-if="groups.hasNextPage.value" type="button" class="link-button" @click="groups.fetchNextPage()">
            Show more groups
          </button>
          <ExportList name="findings" what="these findings" :read="(cursor) => readFindings(filter, cursor)" />
          <p class="small soft">
            To take along:
            <template v-for="(one, place) in FORMS" :key="one.value"
              ><template v-if="place">, </template
              ><a :href="`/api/v1/directories/${directory}/audit/report?form=${one.value}`" download>{{ one.label }}</a></template
            ><template v-if="can('audit.bundle')"
              >, or <a :href="`/api/v1/directories/${directory}/audit/bundle`" download>all of it as signed evidence</a></template
            >
          </p>
        </div>
        <FindingCard v-if="chosen" :finding="chosen" :rule="rule" @closed="choose(null)" @changed="(one) => (picked = one)" />
      </div>
    </template>
  </Loadable>
</template>

<style scoped>
.filter {
  gap: var(--s4);
  margin-bottom: var(--s3);
  flex-wrap: wrap;
}
.set {
  display: flex;
  gap: var(--s1);
  align-items: center;
}
.by {
  margin-left: auto;
  display: flex;
  gap: var(--s1);
  align-items: center;
}
.find {
  width: 190px;
}
.sides.two {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 360px;
  gap: var(--s5);
  align-items: start;
}
.sides.two :deep(.client) {
  width: 140px;
}
.empty {
  padding: var(--s4) 0;
}
</style>
