<script setup lang="ts">
// What is wrong, worst first, grouped by rule or client; one opens beside the list with its evidence and its mend.
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import type { Schemas } from "@/api/client";
import { directory } from "@/api/session";
import { useAudit } from "@/api/use";
import Loadable from "@/ui/Loadable.vue";
import Moment from "@/ui/Moment.vue";
import PageHead from "@/ui/PageHead.vue";
import StateWord from "@/ui/StateWord.vue";
import { useRows } from "@/ui/rows";
import { severityTone } from "@/ui/states";
import { full } from "@/ui/times";
import FindingCard from "./audit/FindingCard.vue";

type Finding = Schemas["KeptFinding"];
type Standing = "open" | "borne" | "mended";
const route = useRoute();
const router = useRouter();
const { data, error, isLoading, refetch } = useAudit();
const severity = computed(() => String(route.query.severity ?? ""));
const by = computed(() => (route.query.by === "client" ? "client" : "rule"));
const which = computed<Standing>(() => (route.query.which === "borne" || route.query.which === "mended" ? route.query.which : "open"));
const standing = (one: Finding): Standing => (one.gone_at ? "mended" : one.waived_until ? "borne" : "open");
const key = (one: Finding) => `${one.rule}~${one.client_id}~${one.subject}`;
const open = computed(() => data.value?.findings.find((one) => key(one) === route.query.open));
const rule = computed(() => data.value?.rules.find((one) => one.id === open.value?.rule));
const SEVERITIES = ["high", "medium", "low"];
const WHICH: { value: Standing; label: string }[] = [{ value: "open", label: "open" }, { value: "borne", label: "borne" }, { value: "mended", label: "mended lately" }];
const FORMS = [{ value: "sarif", label: "SARIF" }, { value: "csv", label: "CSV" }, { value: "jsonl", label: "JSON lines" }, { value: "html", label: "a page to print" }];
const shown = computed(() => data.value?.findings.filter((one) => standing(one) === which.value) ?? []);
const total = (value: Standing) => data.value?.findings.filter((one) => standing(one) === value).length ?? 0;
const count = (word: string) => shown.value.filter((one) => one.severity === word).length;

const groups = computed(() => {
  const made = new Map<string, { title: string; findings: Finding[] }>();
  for (const one of shown.value) {
    if (severity.value && one.severity !== severity.value) continue;
    const name = by.value === "rule" ? one.rule : one.client_id;
    const title = by.value === "rule" ? (data.value?.rules.find((rule) => rule.id === one.rule)?.title ?? one.rule) : one.client_name;
    if (!made.has(name)) made.set(name, { title, findings: [] });
    made.get(name)?.findings.push(one);
  }
  return [...made.values()];
});
const flat = computed(() => groups.value.flatMap((group) => group.findings));
const change = (part: Record<string, string | undefined>) => void router.replace({ query: { ...route.query, ...part } });
const { chosen } = useRows(() => flat.value.length, (place) => change({ open: flat.value[place] && key(flat.value[place]) }));
</script>

<template>
  <PageHead title="Audit" :count="data ? `${total('open')} findings` : ''" :lead="data ? `${data.clients} clients, ${data.rules.length} rules, as of ${full(data.at)}` : ' '" />
  <Loadable :loading="isLoading" :error="error" :ready="!!data" :lines="12" :retry="refetch">
    <template v-if="data">
      <p v-if="data.left" role="status">{{ data.left }} clients have changed and are still to be looked at: ask again in a minute.</p>
      <div class="row posture">
        <span class="set" role="group" aria-label="Which">
          <button v-for="one in WHICH" :key="one.value" type="button" class="pick" :aria-pressed="which === one.value" @click="change({ which: one.value === 'open' ? undefined : one.value, open: undefined })">{{ one.label }} {{ total(one.value) }}</button>
        </span>
        <span class="set" role="group" aria-label="Severity">
          <button type="button" class="pick" :aria-pressed="severity === ''" @click="change({ severity: undefined })">all {{ shown.length }}</button>
          <button v-for="word in SEVERITIES" :key="word" type="button" class="pick" :aria-pressed="severity === word" @click="change({ severity: word })">
            <StateWord :tone="severityTone[word] ?? 'gone'" :word="`${count(word)} ${word}`" />
          </button>
        </span>
        <span class="by" role="group" aria-label="Group by">
          by
          <button type="button" class="pick" :aria-pressed="by === 'rule'" @click="change({ by: undefined })">rule</button>
          <button type="button" class="pick" :aria-pressed="by === 'client'" @click="change({ by: 'client' })">client</button>
        </span>
      </div>
      <p v-if="!flat.length" class="empty">{{ shown.length ? "No finding of this severity." : which === "open" ? "The audit finds nothing wrong." : which === "borne" ? "No finding is borne." : "Nothing was mended in the last thirty days." }}</p>
      <div class="sides" :class="{ two: open }">
        <div>
          <section v-for="group in groups" :key="group.title">
            <h2>{{ group.title }} <span class="soft small">{{ group.findings.length }}</span></h2>
            <table class="log">
              <caption class="visually-hidden">{{ group.title }}</caption>
              <thead class="visually-hidden"><tr><th scope="col">Severity</th><th scope="col">Client</th><th scope="col">What is wrong</th><th scope="col">Since</th></tr></thead>
              <tbody>
                <tr v-for="one in group.findings" :key="key(one)" :class="{ chosen: one === open || flat.indexOf(one) === chosen }">
                  <td class="severity"><StateWord :tone="severityTone[one.severity] ?? 'gone'" :word="one.severity" /></td>
                  <td class="client free">{{ by === "rule" ? one.client_name : data.rules.find((rule) => rule.id === one.rule)?.title }}</td>
                  <td class="free"><button :id="`row-${flat.indexOf(one)}`" type="button" class="link-button" :aria-expanded="one === open" @click="change({ open: one === open ? undefined : key(one) })">{{ one.title }}</button><div v-if="one.assigned_to" class="small soft">{{ one.assigned_to }} sees to it</div></td>
                  <td class="since small soft"><Moment :at="one.gone_at ?? one.first_seen_at" /></td>
                </tr>
              </tbody>
            </table>
          </section>
          <p class="small soft">To take along:
            <template v-for="(one, place) in FORMS" :key="one.value"><template v-if="place">, </template><a :href="`/api/v1/directories/${directory}/audit/report?form=${one.value}`" download>{{ one.label }}</a></template>
          </p>
        </div>
        <FindingCard v-if="open" :finding="open" :rule="rule" @closed="change({ open: undefined })" />
      </div>
    </template>
  </Loadable>
</template>

<style scoped>
.posture { border-top: 2px solid var(--ink); border-bottom: 1px solid var(--line-strong); padding: var(--s3) 0; gap: var(--s4); margin-bottom: var(--s4); }
.set { display: flex; gap: var(--s1); align-items: center; }
.by { margin-left: auto; display: flex; gap: var(--s2); align-items: center; }
.pick { font: inherit; font-size: 13px; color: var(--ink); background: transparent; border: 1px solid transparent; border-radius: var(--corner); padding: 4px 10px; cursor: pointer; }
.pick[aria-pressed="true"] { border-color: var(--ink); background: var(--card); }
.sides.two { display: grid; grid-template-columns: minmax(0, 1fr) 380px; gap: var(--s5); align-items: start; }
section { margin-bottom: var(--s4); }
section h2 { margin-bottom: var(--s1); }
section table.log { border-top-width: 1px; }
/* A button of two lines has its baseline at the last: align at the top instead. */
section table.log td { vertical-align: top; }
.severity { width: 96px; }
.client { width: 220px; font-weight: 560; }
.two .client { width: 170px; }
.since { width: 120px; white-space: nowrap; text-align: right; }
.empty { padding: var(--s4) 0; }
</style>
